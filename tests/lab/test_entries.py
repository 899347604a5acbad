"""Boot entries as `bootpath --capture` reads them beside what real firmware starts by them: each case is a disk,
entries in the firmware's own store, and the same entries in a capture."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable, Mapping
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent))
from boot_images import LOADER, efi_app, need_tools, system
from test_firmware_verdict import starts

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.cli.main import main
from gatecheck.core.disk.division import division_of
from gatecheck.core.firmware import encode as fw
from gatecheck.probe.base import PageRead
from gatecheck.probe.spool import Spool

OWN, OTHER_DISK = "EFI/loft/start.efi", "0D7B42F8-1C95-4A6E-8F30-B94D617C2E55"
DOS = "\\EFI\\loft\\start.efi"
Entries = Callable[[str, int, int], tuple[dict[int, bytes], list[int]]]
"""(partition's GUID, its first sector, sectors) -> (entries by number, their order)"""


def one(*, file: str = DOS, guid: str = "", active: bool = True, nodes: tuple[bytes, ...] = ()) -> Entries:
    return lambda own, first, size: (
        {
            1: fw.load_option(
                "loft", *nodes, fw.partition(guid or own, 1, first, size), fw.file_path(file), active=active
            )
        },
        [1],
    )


def several(*made: Entries, order: list[int] | None = None) -> Entries:
    def all_of(own: str, first: int, size: int) -> tuple[dict[int, bytes], list[int]]:
        entries = {number: next(iter(make(own, first, size)[0].values())) for number, make in enumerate(made, 1)}
        return entries, list(entries) if order is None else order

    return all_of


BROKEN = efi_app()[:300]
CASES: dict[str, tuple[Mapping[str, bytes], Entries]] = {
    "a file that is there": ({OWN: efi_app()}, one()),
    "a file that is not, and a fallback": ({LOADER: efi_app()}, one()),
    "a file that is not, and no fallback": ({OWN: efi_app()}, one(file="\\EFI\\loft\\gone.efi")),
    "a partition of another disk": ({OWN: efi_app()}, one(guid=OTHER_DISK)),
    "not active": ({OWN: efi_app()}, one(active=False)),
    "not in the order": ({OWN: efi_app()}, several(one(), order=[])),
    "the second of two": ({OWN: efi_app()}, several(one(file="\\EFI\\gone.efi"), one())),
    "the second one in the order first": ({OWN: efi_app()}, several(one(file="\\EFI\\gone.efi"), one(), order=[2, 1])),
    "no program": ({OWN: b"not a program" * 100}, one()),
    "a program cut short": ({OWN: BROKEN}, one()),
    "cut short, and a fallback": ({OWN: BROKEN, LOADER: efi_app()}, one()),
    "for another machine": ({OWN: efi_app(machine=0xAA64)}, one()),
    "capital letters": ({OWN: efi_app()}, one(file="\\efi\\LOFT\\Start.EFI")),
    "by the way through the board": ({OWN: efi_app()}, one(nodes=(fw.pci_root(), fw.pci(31, 2), fw.sata(0)))),
    "a file alone": ({OWN: efi_app()}, lambda own, first, size: ({1: fw.load_option("loft", fw.file_path(DOS))}, [1])),
    "the partition alone, and a fallback": (
        {LOADER: efi_app()},
        lambda own, first, size: ({1: fw.load_option("loft", fw.partition(own, 1, first, size))}, [1]),
    ),
}


def capture(place: Path, pages: Mapping[str, bytes]) -> Path:
    spool = Spool(str(place.with_suffix(".spool")))
    spool.begin()
    for path, data in pages.items():
        spool.add(PageRead(path, "uefi-variable", "", "file", None), "offline", "ok", "", data)
    spool.write_capture(str(place), {"mode": "uefi", "machine": "x86_64", "firmware_bits": "64"})
    return place


@pytest.mark.parametrize(
    "name",
    [
        pytest.param(
            n,
            marks=pytest.mark.lab if n in ("the second of two", "a partition of another disk") else pytest.mark.lab_all,
        )
        for n in CASES
    ],
)
def test_what_a_capture_says_of_entries_is_what_the_firmware_does(
    name: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    need_tools()
    files, make = CASES[name]
    image = tmp_path / "disk.img"
    system(files)(image)
    piece = division_of(ImageSectors(str(image))).pieces[0]
    entries, order = make(piece.guid, piece.first, piece.last - piece.first + 1)
    pages = fw.boot_variables(entries, order)
    real = starts(image, "uefi", {path: data for path, data in pages.items() if "/Boot" in path or "/Timeout" in path})
    capsys.readouterr()
    assert (
        main(["bootpath", str(image), "--mode", "uefi", "--capture", str(capture(tmp_path / "machine.gcap", pages))])
        == 0
    )
    ours = json.loads(capsys.readouterr().out)
    line = (
        f"{'' if ours['boots'] == real else 'DIFFERS':<8} entry {name:<36} firmware "
        f"{'starts it' if real else 'does not':<10} verdict "
        f"{'starts' if ours['boots'] else 'stops at ' + str(ours['stops_at'])}"
    )
    with Path(os.environ["GATECHECK_LAB_TABLE"]).open("a", encoding="utf-8") as table:
        table.write(line + "\n")
    assert ours["boots"] == real, line
