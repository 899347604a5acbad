"""The bench's own stick, as an image or written to a stick."""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from pathlib import Path

from gatecheck.cli.output import print_json
from gatecheck.core.errors import InputError
from gatecheck.server.bench_key import BenchKey
from gatecheck.stick.build import cache_folder, parts, with_bench
from gatecheck.stick.device import write_stick
from gatecheck.stick.image import smallest, write_image


def stick(arguments: argparse.Namespace) -> int:
    if (arguments.out is None) == (arguments.to is None):
        raise InputError(
            "stick: expected OUT.img, or --to /dev/…, got " + ("neither" if arguments.out is None else "both")
        )
    if arguments.to is None and arguments.serial:
        raise InputError("--serial: expected with --to /dev/…, got it alone")
    if arguments.out is not None and (arguments.out.is_dir() or not arguments.out.parent.is_dir()):
        raise InputError(
            f"{arguments.out}: expected a file in a folder that is there, got "
            f"{'a folder' if arguments.out.is_dir() else 'no such folder'}"
        )
    began = time.monotonic()

    def say(text: str) -> None:
        print(text, file=sys.stderr)

    key = BenchKey(arguments.data).public  # whoever starts from this stick knows by it which bench made it
    plain = parts(arguments.cache or cache_folder(), say)
    with tempfile.TemporaryDirectory(prefix="gatecheck-stick-") as folder:
        made = with_bench(plain, key, Path(folder))
        if arguments.to is not None:
            print_json(
                write_stick(
                    arguments.to,
                    arguments.serial or "",
                    smallest(made),
                    lambda image, mib: write_image(image, made, mib),
                    say,
                )
            )
            return 0
        size = write_image(arguments.out, made, arguments.size)
    print_json(
        {
            "image": str(arguments.out),
            "mib": size,
            "seconds": round(time.monotonic() - began, 1),
            "starts": ["uefi", "secure-boot", "legacy"],
        }
    )
    return 0
