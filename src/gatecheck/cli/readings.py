"""Commands over what was read elsewhere: captures, pages, read maps."""

from __future__ import annotations

import argparse
import contextlib
import sys
from pathlib import Path

from gatecheck.cli.output import print_json
from gatecheck.core.errors import InputError

_CHUNK = 4 << 20
"""bytes of a read map that are read at once"""


def read(arguments: argparse.Namespace) -> int:
    from gatecheck.adapters.capture_files import read_path
    from gatecheck.adapters.shipped_tables import shipped_words
    from gatecheck.core.capture.document import capture_document
    from gatecheck.core.capture.kinds import DRIVE_KINDS
    from gatecheck.core.capture.read import read_capture

    words = shipped_words()
    kinds = ", ".join(sorted(DRIVE_KINDS))
    if arguments.kind and arguments.kind not in DRIVE_KINDS:
        raise InputError(f"--kind: expected one of {kinds}, got {arguments.kind!r}")
    captures = [read_path(path) for path in arguments.paths]
    for files in captures:
        if arguments.kind and len(files) > 1:
            raise InputError(f"--kind: expected a single page, got {len(files)}")
        capture = read_capture(files, words.knowledge.findings, kind=arguments.kind)
        alone = len(files) == 1
        broken = [page for page in capture.pages if page.status == "broken"]
        if alone and broken:
            raise InputError(f"{broken[0].path}: {words.say(broken[0].detail)}")
        if alone and capture.pages[0].status == "unknown":
            raise InputError(
                f"{capture.pages[0].path}: expected a page of a known kind, got "
                f"{words.say(capture.pages[0].detail)}; "
                f"--kind one of {kinds}"
            )
        print_json(capture_document(capture, words))
    return 0


def surface(arguments: argparse.Namespace) -> int:
    from gatecheck.core.scan.coarse import compact
    from gatecheck.core.scan.judge import judge_map, surface_document
    from gatecheck.core.scan.read import MapError, read_parts

    if arguments.sector_size not in (512, 520, 528, 4096, 4160, 4224):
        raise InputError(
            f"--sector-size: expected 512 or 4096 (520, 528, 4160, 4224 with protection), got {arguments.sector_size}"
        )
    if arguments.disk_sectors is not None and not 1 <= arguments.disk_sectors <= 1 << 48:
        raise InputError(f"--disk-sectors: expected 1 to {1 << 48}, got {arguments.disk_sectors}")
    try:
        with contextlib.ExitStack() as stack:
            source = sys.stdin.buffer if arguments.map == "-" else stack.enter_context(Path(arguments.map).open("rb"))
            found = compact(read_parts(iter(lambda: source.read(_CHUNK), b"")))
    except OSError as error:
        raise InputError(f"{arguments.map}: expected a read map, got {error.strerror}") from error
    except MapError as error:
        raise InputError(f"{arguments.map}: {error}") from error
    if arguments.disk_sectors is not None and int((found.lba + found.sectors).max()) > arguments.disk_sectors:
        raise InputError(
            f"{arguments.map}: expected blocks within {arguments.disk_sectors} sectors, got one that ends at "
            f"{int((found.lba + found.sectors).max())}"
        )
    print_json(
        surface_document(judge_map(found, sector_size=arguments.sector_size, disk_sectors=arguments.disk_sectors))
    )
    return 0
