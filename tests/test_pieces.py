"""Bytes in parts on their way to a file: whole, however little the disk takes at a time."""

from __future__ import annotations

import errno
import os
import random
import zlib
from pathlib import Path

import pytest

from gatecheck.adapters import vectored_write


@pytest.mark.parametrize("most", [1, 7, 1000, 10**9])
def test_everything_is_written_in_its_order_however_little_is_taken_at_a_time(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, most: int
) -> None:
    chance, real = random.Random(most), os.pwritev
    parts = [chance.randbytes(chance.choice((0, 1, 3, 400))) for _ in range(700)]
    taken: list[int] = []

    def little(descriptor: int, views: list[memoryview], at: int) -> int:
        assert len(views) <= 512
        taken.append(real(descriptor, [b"".join(views)[:most]], at))
        return taken[-1]

    monkeypatch.setattr(os, "pwritev", little)
    place = tmp_path / "image"
    place.write_bytes(b"x" * 100)
    with place.open("rb+") as file:
        vectored_write.pwritev_all(file.fileno(), parts, 90)
    assert place.read_bytes() == b"x" * 90 + b"".join(parts)
    assert sum(taken) == sum(map(len, parts))
    assert vectored_write.crc_of(parts) == zlib.crc32(b"".join(parts))


def test_a_disk_that_is_full_in_the_middle_says_so(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    real = os.pwritev

    def full(descriptor: int, views: list[memoryview], at: int) -> int:
        if at >= 5:
            raise OSError(errno.ENOSPC, "No space left on device")
        return real(descriptor, [b"".join(views)[: 5 - at]], at)

    monkeypatch.setattr(os, "pwritev", full)
    with (tmp_path / "image").open("wb") as file, pytest.raises(OSError, match="No space"):
        vectored_write.pwritev_all(file.fileno(), [b"abc", b"defg"], 0)
