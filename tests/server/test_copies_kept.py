"""A copy, and what was read of a drive in part, on a bench's disk that fills up or changes what it was given."""

from __future__ import annotations

import errno
import os
import struct
from pathlib import Path

import pytest

from gatecheck.adapters import row_file
from gatecheck.adapters.vectored_write import crc_of
from gatecheck.server.copies import service
from gatecheck.server.copies.service import Copies, sum_of
from gatecheck.server.volumes.partial_image import READ, PartialImages, PartSectors
from gatecheck.store import StoreError

ROW = struct.Struct("<QQB")


def full_after(monkeypatch: pytest.MonkeyPatch, wrote: int) -> None:
    """The disk takes so many bytes of the next write of rows, and then nothing."""
    real, left = os.pwrite, [wrote]

    def pwrite(descriptor: int, data: bytes, at: int) -> int:
        if left[0] <= 0:
            raise OSError(errno.ENOSPC, "No space left on device")
        done = real(descriptor, data[: left[0]], at)
        left[0] -= done
        return done

    monkeypatch.setattr(row_file.os, "pwrite", pwrite)


@pytest.mark.parametrize("wrote", [0, 5, ROW.size, ROW.size + 3, 2 * ROW.size + 16])
def test_a_map_that_does_not_fit_is_as_it_was_and_comes_again(
    wrote: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    parts = PartialImages(tmp_path)
    ground = parts.of(1, "sda-x", 512, 1000)
    parts.mark(ground, 10, 5, READ)
    parts.settle(ground)
    with monkeypatch.context() as patched:
        full_after(patched, wrote)
        parts.mark(ground, 100, 7, READ)
        parts.mark(ground, 300, 2, READ)
        with pytest.raises(StoreError, match="No space left"):
            parts.settle(ground)
    assert Path(ground.marks).stat().st_size % ROW.size == 0
    parts.mark(ground, 500, 1, READ)
    parts.settle(ground)
    seen = PartSectors(ground)
    read = [n for n in range(1000) if n not in seen.read(0, 1000).missing]
    assert read == [*range(10, 15), *range(100, 107), *range(300, 302), 500], (
        "what was never read does not count as read"
    )


def test_half_a_row_that_was_left_shifts_nothing(tmp_path: Path) -> None:
    parts = PartialImages(tmp_path)
    ground = parts.of(1, "sda-x", 512, 1000)
    parts.mark(ground, 10, 5, READ)
    parts.settle(ground)
    with Path(ground.marks).open("ab") as file:
        file.write(b"\x01\x02\x03")
    parts = PartialImages(tmp_path)
    ground = parts.of(1, "sda-x", 512, 1000)
    parts.mark(ground, 20, 1, READ)
    parts.settle(ground)
    seen = PartSectors(ground)
    assert [n for n in range(1000) if n not in seen.read(0, 1000).missing] == [*range(10, 15), 20]


@pytest.fixture
def copies(tmp_path: Path) -> Copies:
    own = Copies(tmp_path)
    own.begin(1, 7, 64 << 10)
    for at in range(0, 64 << 10, 16 << 10):
        data = bytes([1 + at // (16 << 10)]) * (16 << 10)
        own.write(1, 7, at, [data], sum_of(data).hex(), crc_of([data]))
    return own


def rotten(copies: Copies, at: int) -> None:
    with copies.image(1, 7).open("r+b") as file:
        file.seek(at)
        file.write(b"\xff")


def test_notes_of_a_copy_that_do_not_fit_are_as_they_were(copies: Copies, monkeypatch: pytest.MonkeyPatch) -> None:
    data = b"x" * 4096
    before = copies.image(1, 7).with_suffix(".b2").read_bytes()
    with monkeypatch.context() as patched:
        full_after(patched, 20)
        patched.setattr(service, "pwritev_all", lambda descriptor, parts, at: None)
        with pytest.raises(StoreError, match="No space left"):
            copies.write(1, 7, 0, [data], sum_of(data).hex(), crc_of([data]))
    assert copies.image(1, 7).with_suffix(".b2").read_bytes() == before
    assert copies.verify(1, 7) == []


@pytest.mark.parametrize("at", [0, 16_384, 20_000, 65_535])
def test_a_copy_that_rotted_is_not_served_unnoticed(copies: Copies, at: int) -> None:
    rotten(copies, at)
    piece = at - at % (16 << 10)
    with pytest.raises(StoreError, match="the bench's disk has changed them since"):
        for place in range(0, 64 << 10, 8 << 10):
            copies.read(1, 7, place, 8 << 10)
    assert copies.wrong(copies.image(1, 7)) == [(piece, 16 << 10)], "it counts as missing from now on"
    data, zeros = copies.read(1, 7, piece, 16 << 10, holes=True)
    assert (data, zeros >= 16 << 10) == (None, True), "where holes are known it is one"
    assert copies.read(1, 7, (piece + (16 << 10)) % (64 << 10), 4096)[0] is not None, "no other piece is taken away"


def test_what_the_read_back_found_wrong_counts_as_missing(copies: Copies) -> None:
    rotten(copies, 40_000)
    assert copies.verify(1, 7) == [(32 << 10, 16 << 10)]
    assert copies.wrong(copies.image(1, 7)) == [(32 << 10, 16 << 10)]
    with pytest.raises(StoreError):
        copies.read(1, 7, 32 << 10, 4096)
    data = b"\x03" * (16 << 10)
    copies.write(1, 7, 32 << 10, [data], sum_of(data).hex(), crc_of([data]))
    assert copies.verify(1, 7) == []
    assert copies.wrong(copies.image(1, 7)) == []


def test_bytes_that_are_no_piece_are_in_no_copy(copies: Copies) -> None:
    copies.begin(1, 8, 32 << 10)
    copies.image(1, 8).write_bytes(b"y" * (32 << 10))
    assert copies.read(1, 8, 0, 4096)[0] is None


def test_a_repair_of_a_copy_is_part_of_it_from_then_on(copies: Copies) -> None:
    noted = copies.changes(copies.image(1, 7), [(1000, 10), (20_000, 10)])
    for at in (1000, 20_000):
        rotten(copies, at)
    noted()
    assert copies.verify(1, 7) == []
    assert (copies.read(1, 7, 0, 4096)[0] or b"")[1000] == 0xFF
    rotten(copies, 50_000)
    with pytest.raises(StoreError, match="nothing was written"):
        copies.changes(copies.image(1, 7), [(49_500, 4)])
