"""Copies read without their encryption: the bytes inside where the volume is, zeros where nothing was ever written, and
nothing made up for what is missing."""

from __future__ import annotations

import hashlib
from pathlib import Path

import pytest

from gatecheck.core.locked.encode import luks2, noise
from gatecheck.server.copies.service import Copies
from gatecheck.server.volumes.partial_image import SectorStore
from gatecheck.server.volumes.plain_tasks import opens_task, plain_task

WORDS, FIRST, SIZE = b"counter words", 2048, 4 << 20
PIECE = 1 << 20


@pytest.fixture
def copy(tmp_path: Path) -> tuple[SectorStore, bytes, bytes]:
    """(a copy of a disk of 16 MiB and more with an encrypted Linux volume from sector 2048 on, its bytes, what is
    inside)."""
    plain = noise("inside", SIZE)
    locked = luks2(plain, [WORDS])
    locked += bytes(-len(locked) % PIECE)
    disk = noise("before", FIRST * 512) + locked + bytes(8 * PIECE)
    own = Copies(tmp_path / "copies")
    own.begin(1, 2, len(disk))
    for at in range(0, len(disk), PIECE):
        piece = disk[at : at + PIECE]
        if any(piece):
            own.write(1, 2, at, [piece], hashlib.sha256(piece).hexdigest())
        else:
            own.zeros(1, 2, at, len(piece))
    return SectorStore(str(own.image(1, 2)), 512, len(disk) // 512, is_copy=True), disk, plain


def whole(ground: SectorStore, places: list[tuple[int, int]], keys: list[bytes]) -> bytes:
    at, out = 0, b""
    while at < ground.sectors * 512:
        found = plain_task(None, ground, places, keys, at, min(PIECE, ground.sectors * 512 - at))
        assert not found.missing
        assert found.opened == len(keys)
        out += found.data if found.data is not None else bytes(found.zeros)
        at = len(out)
    return out


def test_the_inside_stands_where_the_volume_is(copy: tuple[SectorStore, bytes, bytes]) -> None:
    ground, disk, plain = copy
    places = [(FIRST, ground.sectors - 1)]
    assert opens_task(None, ground, places, [WORDS]) == ["encrypted Linux volume (LUKS2)"]
    found = whole(ground, places, [WORDS])
    assert len(found) == len(disk)
    assert found[: FIRST * 512] == disk[: FIRST * 512]
    assert found[FIRST * 512 : FIRST * 512 + SIZE] == plain
    tail = found[-8 * PIECE :]
    assert not any(tail), "what was never written is no noise"


def test_without_a_key_nothing_is_open(copy: tuple[SectorStore, bytes, bytes]) -> None:
    ground, _, _ = copy
    places = [(FIRST, ground.sectors - 1)]
    for keys in ([], [b"other words"]):
        assert opens_task(None, ground, places, keys) == []
        assert plain_task(None, ground, places, keys, FIRST * 512, PIECE).opened == 0


def test_what_the_copy_lacks_is_counted_and_not_made_up(copy: tuple[SectorStore, bytes, bytes]) -> None:
    ground, disk, plain = copy
    start = len(disk) - 10 * PIECE
    own = Copies(Path(ground.image).parent.parent)
    own.mark_wrong(Path(ground.image), [(start, PIECE)])  # the bench's disk has changed it since
    places = [(FIRST, ground.sectors - 1)]
    found = [plain_task(None, ground, places, [WORDS], at, PIECE) for at in range(0, ground.sectors * 512, PIECE)]
    lost = [place for place, piece in enumerate(found) if piece.missing]
    assert lost
    told = b"".join(p.data if p.data is not None else bytes(PIECE) for p in found)
    inside = told[FIRST * 512 : FIRST * 512 + SIZE]
    assert inside != plain
    assert {a for a, b in zip(inside, plain, strict=True) if a != b} == {0}
