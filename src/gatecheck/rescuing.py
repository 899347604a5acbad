"""Copying files off a volume into a folder: hashed, holes marked, gone on with after an interruption. The volume is only read.

Order: as the files lie on the disk, those of which something is missing last. A file appears under its name when it is whole on the target.
"""

from __future__ import annotations

import contextlib
import csv
import fnmatch
import hashlib
import io
import os
import shutil
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from gatecheck.core.errors import DecodeError, InputError
from gatecheck.core.volume.tree import GONE, HOLES, LOST, WHOLE, Filesystem, Hole, Node, limited

MANIFEST, HOLE_LIST, RENAMED, LINKS, DELETED = "manifest.csv", "holes.csv", "renamed.csv", "links.csv", "deleted files"
_COLUMNS = ("path", "bytes", "sha256", "state")
_LONGEST, _SPARE = 240, 1 << 20


@dataclass(frozen=True, slots=True)
class Item:
    node: Node
    state: str


def listed(volume: Filesystem, path: str = "", *, deleted: bool = True) -> list[Item]:
    """Files and folders at and below a path, by it."""
    wanted = path.replace("\\", "/").strip("/").lower()
    found = [Item(n, _state(volume, n)) for gone in ((False, True) if deleted else (False,)) for n in volume.nodes(deleted=gone) if not wanted or n.path.lower() == wanted or n.path.lower().startswith(f"{wanted}/")]
    return sorted(found, key=lambda i: (i.node.path, i.state))


def _state(volume: Filesystem, node: Node) -> str:
    if node.deleted:
        return GONE
    if node.is_folder or node.link:
        return WHOLE
    return LOST if node.opaque else volume.shape(node)


class Rescue:
    """Files of a volume on their way into a folder. What was copied before is left; what is begun here can be gone on with by another one.

    `items`: everything wanted; `left`: files that are not copied yet, in the order of the disk, those of which something is missing last."""

    def __init__(self, volume: Filesystem, target: Path, *, only: Sequence[str] | None = None, deleted: bool = False) -> None:
        """Raises InputError where the folder holds something else, OSError where it cannot be read."""
        self.volume, self.target = volume, target
        found = [i for i in listed(volume, deleted=deleted) if i.node.deleted == deleted and (only is None or any(_matches(i.node.path, g) for g in only))]
        self.items = [i for i in found if not (deleted and i.node.is_folder)]
        self.files = [i for i in self.items if not i.node.is_folder and not i.node.link]
        self.names = _Names(target, DELETED if deleted else "")
        self.done = _rows(target / MANIFEST)
        self.left = sorted((i for i in self.files if not _is_there(self.done.get(_shown(i)), self.names.place(i.node))), key=lambda i: _order(volume, i))

    @property
    def need(self) -> int:
        """Bytes that are still to come."""
        return sum(self.size_of(i.node) for i in self.left)

    def size_of(self, node: Node) -> int:
        """Bytes that are copied of a file: no more than lie somewhere where it says that it is longer than its volume."""
        return _reach(self.volume, node)

    def begin(self) -> None:
        """The folders. Raises InputError, OSError."""
        self.target.mkdir(parents=True, exist_ok=True)
        room = shutil.disk_usage(self.target).free
        if self.need + _SPARE > room:
            raise InputError(f"--to {self.target}: expected room for {self.need} bytes, got {room} free")
        for item in self.items:
            if item.node.is_folder:
                self.names.place(item.node).mkdir(parents=True, exist_ok=True)

    def take(self, items: Iterable[Item]) -> None:
        """Copy these now. Raises OSError; each that is whole stays."""
        with _Lists(self.target, self.done) as lists:
            for item in items:
                lists.add(item, *_copied(self.volume, item, self.names.place(item.node), lists))
        self.left = [i for i in self.left if _shown(i) not in self.done]

    def finish(self) -> list[dict[str, str]]:
        """Times of folders and the lists; the rows of the manifest. Raises OSError."""
        for item in self.items:
            if item.node.is_folder and item.node.modified:
                _stamp(self.names.place(item.node), item.node.modified)
        return _finished(self.target, self.done, [i.node for i in self.items if i.node.link], self.names)


def copy(volume: Filesystem, target: Path, *, only: Sequence[str] | None = None, deleted: bool = False, image: str = "") -> dict[str, object]:
    """Copy what is wanted; what was copied before is left. Raises InputError where the target cannot take it; what was copied stays, and the next call goes on."""
    try:
        own = Rescue(volume, target, only=only, deleted=deleted)
        own.begin()
        own.take(own.left)
        rows = own.finish()
    except OSError as error:
        raise InputError(f"--to {target}: expected a folder that can be written, got {error.strerror}; what was copied stays, and the next call goes on") from error
    return {"image": image, "to": str(target), **summary(rows), "renamed": len(own.names.renamed)}


def not_whole(target: Path) -> list[str]:
    """Files of a rescue that are not whole, in the order of their paths. Raises InputError."""
    return sorted(path for path, row in _rows(target / MANIFEST).items() if row["state"] in (HOLES, LOST))


def summary(rows: Sequence[Mapping[str, str]]) -> dict[str, int]:
    """Files, bytes, and how many in each state."""
    states = [row["state"] for row in rows]
    return {"files": len(rows), "bytes": sum(int(row["bytes"]) for row in rows), **{state: states.count(state) for state in (WHOLE, HOLES, LOST, GONE)}}


def _matches(path: str, glob: str) -> bool:
    """A glob is of the whole path, of a folder with all below it, or, without a slash, of the name alone; an empty one is of what lies right below the root."""
    if not glob:
        return "/" not in path
    low, own = path.lower(), glob.replace("\\", "/").strip("/").lower()
    return fnmatch.fnmatchcase(low, own) or fnmatch.fnmatchcase(low, f"{own}/*") or ("/" not in own and fnmatch.fnmatchcase(low.rpartition("/")[2], own))


def _order(volume: Filesystem, item: Item) -> tuple[bool, int]:
    try:
        runs = volume.runs(item.node)
    except DecodeError:
        return True, 0
    return item.state != WHOLE, next((r.at for r in runs if r.at is not None), 0)


def _shown(item: Item) -> str:
    return f"{DELETED}/{item.node.path}" if item.node.deleted else item.node.path


class _Names:
    """Paths of the target, for names that it cannot hold too."""

    def __init__(self, target: Path, below: str) -> None:
        self.target, self.below = target, below
        self.renamed: dict[str, str] = {}
        self.taken = {MANIFEST, HOLE_LIST, RENAMED, LINKS}

    def place(self, node: Node) -> Path:
        parts = [_held(part) for part in node.path.split("/")]
        if not self.below and len(parts) == 1 and parts[0] in self.taken:
            parts[0] = f"{parts[0]} (of the volume)"
        own = "/".join(parts)
        if own != node.path:
            self.renamed[node.path] = own
        return self.target / self.below / own


def _held(part: str) -> str:
    own = "".join("_" if ord(c) < 32 or c in "/\0" else c for c in part) or "_"
    own = own.encode("utf-8", "replace").decode("utf-8")
    if own in (".", ".."):
        return "_" * len(own)
    raw = own.encode()
    if len(raw) > _LONGEST:
        own = f"{raw[: _LONGEST - 12].decode('utf-8', 'ignore')} {hashlib.sha256(raw).hexdigest()[:8]}"
    return own


def _is_there(row: dict[str, str] | None, place: Path) -> bool:
    return row is not None and (row["state"] == LOST or (place.is_file() and place.stat().st_size == int(row["bytes"])))


def _rows(place: Path) -> dict[str, dict[str, str]]:
    """Rows of a manifest by path; a last row that was cut off is left out."""
    try:
        text = place.read_text(encoding="utf-8")
    except FileNotFoundError:
        return {}
    except UnicodeDecodeError as error:
        raise InputError(f"{place}: expected a manifest of a rescue, got no text") from error
    rows = list(csv.DictReader(io.StringIO(text)))
    if text and (not rows and not text.startswith(",".join(_COLUMNS))):
        raise InputError(f"{place}: expected a manifest of a rescue, got another file")
    return {row["path"]: row for row in rows if all(row.get(c) for c in ("path", "bytes", "state")) and row["bytes"].isdigit()}


class _Lists:
    """The manifest as it grows, and the list of holes."""

    def __init__(self, target: Path, done: dict[str, dict[str, str]]) -> None:
        self.target, self.done = target, done

    def __enter__(self) -> _Lists:
        # the manifest anew with what is known: a row that was cut off is gone
        _write_rows(self.target / MANIFEST, _COLUMNS, self.done.values())
        self.file = (self.target / MANIFEST).open("a", encoding="utf-8", newline="")
        self.holes = (self.target / HOLE_LIST).open("a", encoding="utf-8", newline="")
        self.rows, self.hole_rows = csv.writer(self.file), csv.writer(self.holes)
        if not self.holes.tell():
            self.hole_rows.writerow(("path", "at", "bytes", "why"))
        return self

    def hole(self, item: Item, at: int, hole: Hole) -> None:
        self.hole_rows.writerow((_shown(item), at, hole.length, hole.why))

    def add(self, item: Item, size: int, digest: str, state: str) -> None:
        row = {"path": _shown(item), "bytes": str(size), "sha256": digest, "state": state}
        self.done[row["path"]] = row
        self.rows.writerow(row.values())
        self.holes.flush()
        self.file.flush()

    def __exit__(self, *_: object) -> None:
        self.file.close()
        self.holes.close()


def _copied(volume: Filesystem, item: Item, place: Path, lists: _Lists) -> tuple[int, str, str]:
    """(bytes, SHA-256, state); holes are left sparse in the target, and are in the list."""
    if item.state == LOST or item.node.opaque:
        return item.node.size, "", LOST
    place.parent.mkdir(parents=True, exist_ok=True)
    part, digest = place.with_name(f"{place.name[:80]}.{os.getpid()}.part"), hashlib.sha256()
    at, gone, reach = 0, 0, _reach(volume, item.node)
    try:
        with part.open("wb") as file:
            for piece in limited(_pieces(volume, item.node), reach):
                if isinstance(piece, Hole):
                    lists.hole(item, at, piece)
                    _hashed_zeros(digest, piece.length)
                    file.seek(piece.length, os.SEEK_CUR)
                    at, gone = at + piece.length, gone + piece.length
                else:
                    digest.update(piece)
                    file.write(piece)
                    at += len(piece)
            file.truncate(at)
        if reach < item.node.size:
            lists.hole(item, reach, Hole(item.node.size - reach, "longer than its volume: nothing lies there"))
        part.replace(place)
    finally:
        part.unlink(missing_ok=True)
    if item.node.modified:
        _stamp(place, item.node.modified)
    if item.node.deleted:
        return at, digest.hexdigest(), GONE
    lacks = gone or reach < item.node.size
    return at, digest.hexdigest(), LOST if lacks and gone >= at else HOLES if lacks else WHOLE


def _reach(volume: Filesystem, node: Node) -> int:
    if node.size <= volume.size:
        return node.size
    try:
        return min(node.size, sum(run.length for run in volume.runs(node)))
    except DecodeError:
        return 0


def _pieces(volume: Filesystem, node: Node) -> Iterator[bytes | Hole]:
    try:
        yield from volume.content(node)
    except DecodeError as error:
        if node.size:
            yield Hole(node.size, str(error))


def _hashed_zeros(digest: object, count: int) -> None:
    update = digest.update  # type: ignore[attr-defined]
    while count > 0:
        update(bytes(min(count, 1 << 20)))
        count -= 1 << 20


def _stamp(place: Path, modified: float) -> None:
    with contextlib.suppress(OSError, OverflowError, ValueError):  # a time that the target cannot hold
        os.utime(place, (modified, modified))


def _finished(target: Path, done: dict[str, dict[str, str]], links: Sequence[Node], names: _Names) -> list[dict[str, str]]:
    """Lists in the order of their paths, so that a copy that was interrupted ends as one that was not."""
    rows = [done[path] for path in sorted(done)]
    _write_rows(target / MANIFEST, _COLUMNS, rows)
    holes = list(csv.DictReader(io.StringIO((target / HOLE_LIST).read_text(encoding="utf-8"))))
    if holes:
        unique = {tuple(h.values()): h for h in holes}
        _write_rows(target / HOLE_LIST, ("path", "at", "bytes", "why"), [unique[k] for k in sorted(unique, key=lambda k: (k[0], int(k[1])))])
    else:
        (target / HOLE_LIST).unlink()
    if links:
        _write_rows(target / LINKS, ("path", "leads_to"), [{"path": n.path, "leads_to": n.link} for n in sorted(links, key=lambda n: n.path)])
    if names.renamed:
        _write_rows(target / RENAMED, ("path", "saved_as"), [{"path": p, "saved_as": s} for p, s in sorted(names.renamed.items())])
    return rows


def _write_rows(place: Path, columns: Sequence[str], rows: object) -> None:
    """Whole under its name, or as it was."""
    part = place.with_name(f".{place.name}.part")
    with part.open("w", encoding="utf-8", newline="") as file:
        writer = csv.DictWriter(file, columns, extrasaction="ignore")
        writer.writeheader()
        writer.writerows(rows)  # type: ignore[arg-type]
        file.flush()
        os.fsync(file.fileno())
    part.replace(place)
