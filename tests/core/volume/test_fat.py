"""FAT volumes: what our encoder writes is read back (what others write is judged in the lab), and what hostile bytes
cost."""

from __future__ import annotations

import random
import struct
import time

import pytest

from gatecheck.core.disk.sectors import CapturedSectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.core.volume.fat.layout import listing, read_fat

FILES = {
    "EFI/system/start.efi": b"MZ" + bytes(700),
    "EFI/BOOT/BOOTX64.EFI": b"MZ",
    "EFI/system/a name longer than one entry holds.cfg": b"x" * 9000,
    "NOTES.TXT": b"",
    "Boot folder/deep/deeper/täst.bin": bytes(3),
}


def volume(
    sectors: int, sector: int = 512, cluster: int = 1, files: dict[str, bytes] | None = None
) -> dict[int, bytes]:
    return fat_volume(
        FILES if files is None else files, sectors=sectors, sector=sector, cluster_sectors=cluster, label="LOFT"
    )


@pytest.mark.parametrize(
    ("sectors", "sector", "cluster", "kind"),
    [(204_800, 512, 1, "FAT32"), (40_960, 512, 4, "FAT16"), (80_000, 4096, 1, "FAT32"), (20_000, 2048, 2, "FAT16")],
)
def test_what_was_written_is_read_back(sectors: int, sector: int, cluster: int, kind: str) -> None:
    own = (
        read_fat(CapturedSectors(volume(sectors, sector, cluster), sector=sector), 0)
        if sector != 2048
        else read_fat(on_512(volume(sectors, 2048, cluster), 2048), 0)
    )
    assert (own.kind, own.label, own.size) == (kind, "LOFT", sectors * sector)
    found = listing(own)
    assert found.missing == {}
    assert {path: own.head(file, 100) for path, file in found.files.items() if not file.is_directory} == {
        path: data[:100] for path, data in FILES.items()
    }


def on_512(ranges: dict[int, bytes], size: int) -> CapturedSectors:
    return CapturedSectors({at * size // 512: data for at, data in ranges.items()})


def whole(sectors: int = 40_960, sector: int = 512, cluster: int = 4) -> bytearray:
    raw = bytearray(sectors * sector)
    for at, data in volume(sectors, sector, cluster).items():
        raw[at * sector : at * sector + len(data)] = data
    return raw


def of(raw: bytes) -> CapturedSectors:
    return CapturedSectors({0: bytes(raw)})


def test_every_file_with_its_first_bytes() -> None:
    own = read_fat(of(whole()), 0)
    found = listing(own)
    assert found.missing == {}
    assert {path: own.head(file, 100) for path, file in found.files.items() if not file.is_directory} == {
        path: data[:100] for path, data in FILES.items()
    }
    assert found.find("\\efi\\SYSTEM\\Start.EFI") == found.files["EFI/system/start.efi"]
    assert found.find("EFI/nothing.efi") is None


def test_a_sector_that_was_not_read_leaves_the_rest() -> None:
    raw = whole()
    own = read_fat(of(raw), 0)
    folder = listing(own).files["EFI/BOOT"]
    lba = own.data_at + (folder.cluster - 2) * own.cluster_sectors
    parts = CapturedSectors(
        {0: bytes(raw[: lba * 512]), lba + own.cluster_sectors: bytes(raw[(lba + own.cluster_sectors) * 512 :])},
        unreadable=range(lba, lba + own.cluster_sectors),
    )
    found = listing(read_fat(parts, 0))
    assert list(found.missing) == ["EFI/BOOT"]
    assert "unreadable" in found.missing["EFI/BOOT"]
    assert "EFI/system/start.efi" in found.files


def test_a_circle_and_a_chain_that_leads_outside_end() -> None:
    raw = whole()
    own = read_fat(of(raw), 0)
    folder = listing(own).files["EFI"]
    for target in (folder.cluster, own.clusters + 500):
        struct.pack_into("<H", raw, own.reserved * 512 + folder.cluster * 2, target)
        raw_dir = (own.data_at + (folder.cluster - 2) * own.cluster_sectors) * 512
        filled = bytearray(raw)
        for at in range(raw_dir, raw_dir + own.cluster_sectors * 512, 32):
            # no end of the directory in its first cluster, so that the chain is followed
            filled[at] = filled[at] or 0xE5
        assert "EFI" in listing(read_fat(of(filled), 0)).missing


@pytest.mark.parametrize(
    ("at", "raw", "told"),
    [
        (11, b"\x03\x00", "bytes per sector"),
        (13, b"\x03", "cluster size"),
        (16, b"\0", "cluster size"),
        (22, b"\0\0", "sizes"),
        (19, b"\x05\0", "sizes"),
    ],
)
def test_a_boot_sector_that_is_none_says_where(at: int, raw: bytes, told: str) -> None:
    image = whole()[:4096]
    image[at : at + len(raw)] = raw
    with pytest.raises(DecodeError, match=told):
        read_fat(of(image), 0)


def test_hostile_bytes_cost_little() -> None:
    rng = random.Random(7)
    clean = whole()[: 400 * 512]
    began = time.monotonic()
    for _ in range(300):
        raw = bytearray(clean)
        for _ in range(rng.choice((1, 8, 64, 2000))):
            raw[rng.randrange(len(raw))] = rng.randrange(256)
        try:
            listing(read_fat(of(raw), 0))
        except DecodeError:
            continue
    assert time.monotonic() - began < 60
