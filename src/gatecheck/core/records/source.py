"""Files of an installed system, wherever they are: a volume, or a folder that was saved elsewhere."""

from __future__ import annotations

from typing import Protocol

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.tree import Filesystem, Hole

LARGEST = 512 << 20


class Files(Protocol):
    """Paths are joined by `/` and compared without regard to case."""

    def head(self, path: str, count: int) -> bytes | None:
        """The first bytes of a file; None where there is none."""
        ...

    def read(self, path: str) -> tuple[bytes, int] | None:
        """(bytes, how many of them could not be read: zeros, or are missing at its end); None where there is no such
        file."""
        ...

    def names(self, folder: str) -> list[str]:
        """What is in a folder; nothing where there is none."""
        ...

    def link(self, path: str) -> str:
        """What a symbolic link points to, empty where there is none."""
        ...


class VolumeFiles:
    """Over a volume."""

    def __init__(self, volume: Filesystem) -> None:
        self._volume = volume
        self._folders: dict[str, dict[str, str]] = {}
        self.problem = ""
        try:
            for node in volume.nodes():
                folder, _, name = node.path.rpartition("/")
                self._folders.setdefault(folder.lower(), {})[name.lower()] = node.path
        except DecodeError as error:  # what was found before it counts
            self.problem = str(error)

    def _real(self, path: str) -> str | None:
        folder, _, name = path.rpartition("/")
        return self._folders.get(folder.lower(), {}).get(name.lower())

    def head(self, path: str, count: int) -> bytes | None:
        found = self._content(path, count)
        return None if found is None else found[0][:count]

    def read(self, path: str) -> tuple[bytes, int] | None:
        return self._content(path, LARGEST)

    def _content(self, path: str, most: int) -> tuple[bytes, int] | None:
        real = self._real(path)
        node = self._volume.find(real) if real else None
        if node is None or node.is_folder or node.opaque:
            return None
        out, lost = bytearray(), 0
        try:
            for piece in self._volume.content(node):
                if isinstance(piece, Hole):
                    out += bytes(min(piece.length, most - len(out)))
                    lost += piece.length
                else:
                    out += piece
                if len(out) >= most:
                    break
        except DecodeError:
            lost += max(0, min(node.size, most) - len(out))
        return bytes(out), lost + (max(0, node.size - most) if most == LARGEST else 0)

    def link(self, path: str) -> str:
        real = self._real(path)
        node = self._volume.find(real) if real else None
        return node.link if node is not None else ""

    def names(self, folder: str) -> list[str]:
        return sorted(path.rpartition("/")[2] for path in self._folders.get(folder.lower(), {}).values())
