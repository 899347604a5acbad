"""Files of an installed system that were saved to a folder: found without regard to case, links not followed."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

from gatecheck.core.errors import InputError
from gatecheck.core.records.source import LARGEST


class FolderFiles:
    """`Files` over a folder."""

    def __init__(self, place: Path) -> None:
        """Raises InputError where it cannot be listed."""
        self._place = place
        try:
            with os.scandir(place) as entries:
                next(entries, None)
        except OSError as error:
            raise InputError(f"{place}: expected a folder that can be read, got {error.strerror}") from error
        self._listed: dict[Path, dict[str, Path]] = {}

    def _inside(self, folder: Path) -> dict[str, Path]:
        if folder not in self._listed:
            found: list[Path] = []
            with contextlib.suppress(OSError), os.scandir(folder) as entries:
                found = [Path(e.path) for e in entries if not e.is_symlink()]
            self._listed[folder] = {p.name.lower(): p for p in found}
        return self._listed[folder]

    def _real(self, path: str) -> Path | None:
        own: Path | None = self._place
        for part in filter(None, path.split("/")):
            own = self._inside(own).get(part.lower()) if own else None
        return own

    def head(self, path: str, count: int) -> bytes | None:
        own = self._real(path)
        if own is None or not own.is_file():
            return None
        try:
            with own.open("rb") as file:
                return file.read(min(count, os.fstat(file.fileno()).st_size))
        except OSError:
            return None

    def read(self, path: str) -> tuple[bytes, int] | None:
        raw, own = self.head(path, LARGEST), self._real(path)
        return None if raw is None or own is None else (raw, max(0, own.stat().st_size - len(raw)))

    def link(self, path: str) -> str:
        folder, _, name = path.rpartition("/")
        own = self._real(folder)
        try:
            return os.readlink(own / name) if own is not None else ""
        except OSError:
            return ""

    def names(self, folder: str) -> list[str]:
        own = self._real(folder)
        return sorted(p.name for p in self._inside(own).values()) if own is not None else []
