"""A journal is carried out as its system does it, or refused: held against the system's own checker."""

from __future__ import annotations

import random
import shutil
import struct
import subprocess
from pathlib import Path

import pytest

from gatecheck.core.disk.sectors import sectors_of
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.crc32c import crc32c
from gatecheck.core.volume.ext.journal import pending_blocks
from gatecheck.core.volume.ext.read import Ext

KINDS = {
    "sums of version 3": ("metadata_csum,64bit", "-c -v 3"),
    "sums of version 2, narrow": ("metadata_csum,^64bit", "-c -v 2"),
    "sums of version 1": ("^metadata_csum,64bit", "-c"),
    "no sums": ("^metadata_csum,^64bit", ""),
}
BLOCK = 1024


def ran(*args: str, told: str | None = None) -> str:
    done = subprocess.run(args, input=told, capture_output=True, text=True, check=False)
    return done.stdout + done.stderr


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> dict[str, bytes]:
    """Volumes whose journals hold three transactions of six blocks, one of them revoked, by the system's own tools."""
    if not all(shutil.which(tool) for tool in ("mke2fs", "debugfs", "e2fsck")):
        pytest.skip("mke2fs, debugfs and e2fsck are not here (Debian's e2fsprogs)")
    folder, made = tmp_path_factory.mktemp("journals"), {}
    written = folder / "written"
    written.write_bytes(random.Random(5).randbytes(6 * BLOCK))
    for name, (features, version) in KINDS.items():
        image = folder / f"{len(made)}.img"
        ran("mke2fs", "-q", "-F", "-t", "ext4", "-b", str(BLOCK), "-J", "size=4", "-O", features, str(image), "24M")
        order = f"jo {version}\njw -b 8000-8003 {written}\njw -b 8010,8012 {written}\njw -r 8001\njc\n"
        ran("debugfs", "-w", "-f", "-", str(image), told=order)
        made[name] = image.read_bytes()
    return made


def opened(image: bytes) -> Ext:
    return Ext(sectors_of(image), 0, len(image) // 512 - 1)


def log_of(volume: Ext) -> list[int]:
    runs = sorted(volume.mapped(volume.inode(8)), key=lambda run: run.first)
    return [run.block + at for run in runs if run.block is not None for at in range(run.count)]


def carried_out(image: bytes, folder: Path) -> bytes:
    place = folder / "system.img"
    place.write_bytes(image)
    ran("e2fsck", "-fy", "-E", "journal_only", str(place))
    with place.open("rb") as file:
        return file.read(len(image))


def changed(before: bytes, after: bytes, besides: set[int]) -> dict[int, bytes]:
    blocks = ((at // BLOCK, after[at : at + BLOCK]) for at in range(0, len(before), BLOCK))
    return {n: data for n, data in blocks if n not in besides and data != before[n * BLOCK : n * BLOCK + BLOCK]}


@pytest.mark.parametrize("name", KINDS)
def test_a_whole_journal_is_carried_out_as_the_system_does(name: str, made: dict[str, bytes], tmp_path: Path) -> None:
    image = made[name]
    pending = pending_blocks(opened(image))
    assert pending
    kept = {*log_of(opened(image)), 1, 8193, 16385}
    assert pending == changed(image, carried_out(image, tmp_path), kept)


@pytest.mark.parametrize("name", KINDS)
def test_a_hurt_journal_is_refused_or_carried_out_as_the_system_does(
    name: str, made: dict[str, bytes], tmp_path: Path
) -> None:
    image, rng = made[name], random.Random(77)
    log = log_of(opened(image))
    kept = {*log, 1, 8193, 16385}
    for _ in range(24):
        hurt, block = bytearray(image), rng.randrange(12)
        at = rng.randrange(100) if block == 0 else rng.choice((rng.randrange(64), rng.randrange(BLOCK)))
        hurt[log[block] * BLOCK + at] ^= 1 << rng.randrange(8)
        try:
            pending = pending_blocks(opened(bytes(hurt)))
        except DecodeError:
            continue
        mine = {n: data for n, data in pending.items() if data != bytes(hurt[n * BLOCK : n * BLOCK + BLOCK])}
        assert mine == changed(bytes(hurt), carried_out(bytes(hurt), tmp_path), kept), (block, at)


def with_head(image: bytes, **fields: int) -> bytes:
    """The journal's superblock with other fields (by offset), its checksum right."""
    start = log_of(opened(image))[0] * BLOCK
    head = bytearray(image[start : start + BLOCK])
    for place, value in fields.items():
        struct.pack_into(">I", head, int(place.removeprefix("at")), value)
    if struct.unpack_from(">I", head, 40)[0] & 0x18:
        head[0xFC:0x100] = bytes(4)
        head[0xFC:0x100] = struct.pack(">I", crc32c(0xFFFFFFFF, bytes(head)))
    return image[:start] + bytes(head) + image[start + BLOCK :]


@pytest.mark.parametrize(
    ("name", "fields", "expected"),
    [
        ("no sums", {"at40": 0x40}, "features that are known"),
        ("no sums", {"at44": 0x1}, "features that are known"),
        ("no sums", {"at16": 1 << 20}, "the length of the journal's file"),
        ("no sums", {"at28": 1 << 20}, "a start inside the journal"),
        ("no sums", {"at4": 9}, "kind 3 or 4"),
        ("sums of version 3", {"at40": 0x1B}, "checksums of one version"),
        ("sums of version 3", {"at80": 0x01000000}, "checksums of kind 4"),
    ],
)
def test_what_is_not_known_is_refused_in_words(
    name: str, fields: dict[str, int], expected: str, made: dict[str, bytes]
) -> None:
    with pytest.raises(DecodeError, match=expected):
        pending_blocks(opened(with_head(made[name], **fields)))


@pytest.mark.parametrize("follows", [True, False])
def test_fast_commits_that_follow_are_refused(follows: bool, made: dict[str, bytes]) -> None:
    """Those of before the last full commit are a rest, and do not matter."""
    image = made["no sums"]
    log = log_of(opened(image))
    sequence = struct.unpack_from(">I", image, log[0] * BLOCK + 24)[0]
    at = log[len(log) - 256] * BLOCK
    head = struct.pack("<HHII", 9, 8, 0, sequence + (3 if follows else 0))  # each order is a transaction of its own
    fast = with_head(image[:at] + head + image[at + len(head) :], at40=0x21, at84=256)
    if follows:
        with pytest.raises(DecodeError, match="fast commits"):
            pending_blocks(opened(fast))
    else:
        assert pending_blocks(opened(fast)) == pending_blocks(opened(image))
