"""Reads pages from the outside: a single page, a folder, or a capture file. Trusts no size, count or name."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator
from pathlib import Path, PurePosixPath

from gatecheck.core.errors import InputError

MOST_PAGES = 2000
MOST_DEVICES = 200
LARGEST_PAGE = 4 << 20
LARGEST_CAPTURE = 20 << 20
MOST_RATIO = 400
HARMLESS = 1 << 18
"""bytes that may be packed as small as they will: the first sectors of an empty disk are zeros"""
"""uncompressed to compressed bytes: above it is no page but a bomb"""


def read_path(path: str) -> dict[str, bytes]:
    """Path of a page, folder or `.gcap` -> its pages by relative name. Raises InputError."""
    place = Path(path)
    if place.is_dir():
        return _read_folder(place)
    if not place.exists():
        raise InputError(f"{path}: expected a capture, a folder of raw pages or one page, got nothing there")
    try:
        if place.stat().st_size > LARGEST_CAPTURE:
            raise InputError(
                f"{path}: expected at most {LARGEST_CAPTURE >> 20} MiB, got {place.stat().st_size >> 20} MiB"
            )
        data = place.read_bytes()
    except OSError as error:
        raise InputError(f"{path}: expected a readable file, got {error.strerror}") from error
    return pages_of(place.name, data)


def pages_of(name: str, data: bytes) -> dict[str, bytes]:
    """A file's pages: those inside it where it is a capture, else itself. Raises InputError."""
    if name.lower().endswith(".gcap") or data[:4] == b"PK\x03\x04":
        return _not_too_many(name, dict(_read_zip(name, data)))
    if not data:
        raise InputError(f"{name}: expected a page, got an empty file")
    return {PurePosixPath(name).name: data}


def _not_too_many(name: str, pages: dict[str, bytes]) -> dict[str, bytes]:
    devices = len({path.rpartition("/")[0] for path in pages})
    if devices > MOST_DEVICES:
        raise InputError(f"{name}: expected pages of at most {MOST_DEVICES} devices, got {devices}")
    return pages


def _read_folder(folder: Path) -> dict[str, bytes]:
    files = sorted(p for p in folder.rglob("*") if p.is_file() and not p.is_symlink())
    if not files:
        raise InputError(f"{folder}: expected a folder of raw pages, got an empty folder")
    if len(files) > MOST_PAGES:
        raise InputError(f"{folder}: expected at most {MOST_PAGES} pages, got {len(files)}")
    pages, total = {}, 0
    for file in files:
        size = file.stat().st_size
        total += size
        if size > LARGEST_PAGE or total > LARGEST_CAPTURE:
            raise InputError(f"{file}: expected a page of at most {LARGEST_PAGE >> 20} MiB, got {size} bytes")
        pages[file.relative_to(folder).as_posix()] = file.read_bytes()
    return _not_too_many(str(folder), pages)


def _read_zip(name: str, data: bytes) -> Iterator[tuple[str, bytes]]:
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
    except (zipfile.BadZipFile, ValueError, NotImplementedError) as error:
        raise InputError(
            f"{name}: expected a capture (ZIP), got {len(data)} bytes that cannot be opened as one: {error}"
        ) from error
    entries = [entry for entry in archive.infolist() if not entry.is_dir()]
    if not 1 <= len(entries) <= MOST_PAGES:
        raise InputError(f"{name}: expected 1 to {MOST_PAGES} pages, got {len(entries)}")
    total, seen = 0, set()
    for entry in entries:
        path = PurePosixPath(entry.filename)
        if path.is_absolute() or ".." in path.parts or "\\" in entry.filename or entry.filename in seen:
            raise InputError(f"{name}: expected plain relative names, each once, got {entry.filename!r}")
        seen.add(entry.filename)
        total += entry.file_size
        bomb = entry.file_size > max(HARMLESS, MOST_RATIO * entry.compress_size)
        if entry.file_size > LARGEST_PAGE or total > LARGEST_CAPTURE or bomb:
            raise InputError(
                f"{name}: expected pages of at most {LARGEST_PAGE >> 20} MiB, got {entry.filename} with "
                f"{entry.file_size} bytes"
            )
        try:
            with archive.open(entry) as stream:
                content = stream.read(LARGEST_PAGE + 1)
        except Exception as error:  # zipfile raises a dozen kinds for damaged members; the others stay readable
            content = b""
            entry.filename += f" (damaged: {type(error).__name__})"
        yield entry.filename, content
