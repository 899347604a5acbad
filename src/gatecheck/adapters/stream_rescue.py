"""Further streams of files (NTFS: data attributes with a name), saved beside the files: a folder of the same paths,
with a file for each stream, and a list. Where one cannot be read, the list says so."""

from __future__ import annotations

import csv
import errno
import hashlib
import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Protocol, runtime_checkable

from gatecheck.core.volume.names import name_to_write
from gatecheck.core.volume.tree import HOLES, LOST, WHOLE, Hole, Node, limited

FOLDER, LIST = "further streams", "streams.csv"
_COLUMNS = ("path", "stream", "bytes", "sha256", "state")
_LARGEST = 1 << 40


@runtime_checkable
class HasStreams(Protocol):
    def streams(self, node: Node) -> Iterator[tuple[str, int, Iterator[bytes | Hole]]]:
        """(name, bytes, content) of each stream of a file but its own one."""
        ...


def save_streams(volume: object, files: Iterable[tuple[Node, str]], target: Path) -> int:
    """How many there were. files: each with its path in the target. Raises OSError where the folder takes nothing any
    more."""
    if not isinstance(volume, HasStreams):
        return 0
    rows: list[tuple[str, str, int, str, str]] = []
    for node, told in files:
        if node.deleted or node.opaque:
            continue
        try:
            for name, size, content in volume.streams(node):
                rows.append(
                    (told, name, size, *_saved(content, min(size, _LARGEST), target / FOLDER / told / _held(name)))
                )
        except OSError:
            raise
        except Exception:  # one file that cannot be read takes no other away
            rows.append((told, "?", 0, "", LOST))
    if rows or (target / LIST).exists():
        with (target / LIST).open("w", encoding="utf-8", errors="backslashreplace", newline="") as file:
            out = csv.writer(file)
            out.writerow(_COLUMNS)
            out.writerows(rows)
    return len(rows)


def _held(name: str) -> str:
    return name_to_write(name.encode("utf-8", "backslashreplace").decode())[:200] or "(no name)"


def _saved(content: Iterator[bytes | Hole], size: int, place: Path) -> tuple[str, str]:
    """(SHA-256, state) of what was written, read back."""
    gone = at = 0
    digest = hashlib.sha256()
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        part = place.with_name(f"{place.name[:60]}.{os.getpid()}.part")
        try:
            with part.open("wb") as file:
                for piece in limited(content, size):
                    raw = bytes(piece.length) if isinstance(piece, Hole) and piece.length < 1 << 24 else piece
                    if isinstance(piece, Hole):
                        gone += piece.length
                    if isinstance(raw, Hole):
                        return "", LOST
                    digest.update(raw)
                    file.write(raw)
                    at += len(raw)
            if gone and gone >= at:
                return "", LOST
            with part.open("rb") as file:
                if hashlib.file_digest(file, "sha256").hexdigest() != digest.hexdigest():
                    return "", LOST
            part.replace(place)
        finally:
            part.unlink(missing_ok=True)
    except OSError as error:
        if error.errno in (errno.ENOSPC, errno.EROFS, errno.EIO):
            raise
        return "", LOST
    except Exception:
        return "", LOST
    return digest.hexdigest(), HOLES if gone else WHOLE
