"""The program for the sick machine: written out, or run on a practice machine."""

from __future__ import annotations

import argparse
import sys

from gatecheck.core.errors import InputError


def probe(arguments: argparse.Namespace) -> int:
    from gatecheck.adapters.probe_script import probe_archive

    if arguments.practice:
        return _practice(arguments)
    probe = probe_archive(arguments.server, arguments.secret)
    if arguments.out is None:
        sys.stdout.buffer.write(probe)
        return 0
    try:
        arguments.out.write_bytes(probe)
    except OSError as error:
        raise InputError(f"--out {arguments.out}: expected a file that can be written, got {error.strerror}") from error
    return 0


def _practice(arguments: argparse.Namespace) -> int:
    import tempfile

    from gatecheck.practice.__main__ import main as practice
    from gatecheck.practice.patients import PATIENTS

    if arguments.practice == "list":
        for patient in PATIENTS:
            print(f"{patient.id:<14}{patient.title}")
        return 0
    if arguments.practice not in {p.id for p in PATIENTS}:
        raise InputError(f"--practice: expected one of {', '.join(p.id for p in PATIENTS)}, got {arguments.practice!r}")
    if arguments.out is None and not (arguments.server and arguments.secret):
        raise InputError("--practice: expected --out FILE.gcap, or --server with --secret, got neither")
    with tempfile.TemporaryDirectory() as spool:
        where = (
            ["--out", str(arguments.out)]
            if arguments.out
            else ["--server", arguments.server, "--secret", arguments.secret]
        )
        return practice([arguments.practice, "--spool", spool, "--wait", "3", *where])
