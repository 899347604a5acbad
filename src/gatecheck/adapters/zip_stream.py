"""A folder as a ZIP that is made while it is handed over: nothing of it is kept in memory or written anywhere."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator
from pathlib import Path

_PIECE = 1 << 20


class _Pipe(io.RawIOBase):
    """What was written since it was last emptied; it cannot be gone back in."""

    def __init__(self) -> None:
        self.pieces: list[bytes] = []

    def writable(self) -> bool:
        return True

    def write(self, data: object) -> int:
        self.pieces.append(bytes(data))  # type: ignore[call-overload]
        return len(self.pieces[-1])

    def empty(self) -> bytes:
        taken, self.pieces = b"".join(self.pieces), []
        return taken


def zip_of(folder: Path) -> Iterator[bytes]:
    """Pieces of a ZIP (64-bit where it has to be) of every file below, stored as they are. Links are left out."""
    pipe = _Pipe()
    with zipfile.ZipFile(pipe, "w", zipfile.ZIP_STORED, allowZip64=True) as packed:
        for path in sorted(p for p in folder.rglob("*") if p.is_file() and not p.is_symlink()):
            info = zipfile.ZipInfo.from_file(path, path.relative_to(folder).as_posix(), strict_timestamps=False)
            with path.open("rb") as source, packed.open(info, "w", force_zip64=info.file_size >= 1 << 31) as entry:
                while piece := source.read(_PIECE):
                    entry.write(piece)
                    yield pipe.empty()
    yield pipe.empty()
