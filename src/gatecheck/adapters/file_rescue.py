"""Copying files off a volume into a folder: hashed, holes marked, gone on with after an interruption. The volume is
only read.

Order: as the files lie on the disk, those of which something is missing last. A file appears under its name when it is
whole on the target."""

from __future__ import annotations

import contextlib
import csv
import errno
import fnmatch
import hashlib
import io
import os
import re
import shutil
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from gatecheck.adapters.durable_file import durable
from gatecheck.adapters.stream_rescue import FOLDER, LIST, save_streams
from gatecheck.core.errors import DecodeError, InputError
from gatecheck.core.volume.names import name_to_write
from gatecheck.core.volume.shared_clusters import SharedSpan, shared_by
from gatecheck.core.volume.tree import GONE, HOLES, LOST, WHOLE, Filesystem, Hole, Node, limited

MANIFEST, HOLE_LIST, RENAMED, LINKS, DELETED = "manifest.csv", "holes.csv", "renamed.csv", "links.csv", "deleted files"
SUMMARY = "what was saved.txt"
"""what whoever saves files may put beside them, in words"""
_COLUMNS = ("path", "bytes", "sha256", "state")
_LONGEST, _LONGEST_PATH, _SPARE = 240, 3800, 1 << 20
_ESCAPED = re.compile(r"\\(x[0-9a-f]{2}|u[0-9a-f]{4})")


@dataclass(frozen=True, slots=True)
class RescueItem:
    """`shared`: bytes of it that another file claims too: of the two at most one is whole, and which cannot be told."""

    node: Node
    state: str
    shared: tuple[SharedSpan, ...] = ()


def listed(volume: Filesystem, path: str = "", *, deleted: bool = True) -> list[RescueItem]:
    """Files and folders at and below a path, by it."""
    wanted = path.replace("\\", "/").strip("/").lower()
    nodes = [n for gone in ((False, True) if deleted else (False,)) for n in volume.nodes(deleted=gone)]
    shared = shared_by(volume, nodes)
    found = [
        RescueItem(n, _state(volume, n, is_shared=place in shared), tuple(shared.get(place, ())))
        for place, n in enumerate(nodes)
        if not wanted or n.path.lower() == wanted or n.path.lower().startswith(f"{wanted}/")
    ]
    return sorted(found, key=lambda i: (i.node.path, not i.node.is_folder, i.node.id, i.state))


def _state(volume: Filesystem, node: Node, *, is_shared: bool) -> str:
    if node.deleted:
        return GONE
    if node.is_folder or node.link:
        return WHOLE
    own = LOST if node.opaque else volume.shape(node)
    return HOLES if own == WHOLE and is_shared else own


class Rescue:
    """Files of a volume on their way into a folder. What was copied before is left; what is begun here can be gone on
    with by another one.

    `items`: everything wanted; `left`: files that are not copied yet, in the order of the disk, those of which
    something is missing last."""

    def __init__(
        self, volume: Filesystem, target: Path, *, only: Sequence[str] | None = None, deleted: bool = False
    ) -> None:
        """Raises InputError where the folder holds something else, OSError where it cannot be read."""
        self.volume, self.target = volume, target
        known = [i for i in listed(volume, deleted=deleted) if i.node.deleted == deleted]
        self.names = _Names(target, DELETED if deleted else "", known)
        self.items = [
            i
            for i in known
            if (only is None or any(_matches(i.node.path, g) for g in only)) and not (deleted and i.node.is_folder)
        ]
        self.files = [i for i in self.items if not i.node.is_folder and not i.node.link]
        self.streams = 0
        self.done = _rows(target / MANIFEST)
        self.left = sorted(
            (i for i in self.files if not _is_there(self.done.get(self.names.told(i)), self.names.place(i))),
            key=lambda i: _order(volume, i),
        )

    @property
    def need(self) -> int:
        """Bytes that are still to come."""
        return sum(self.size_of(i.node) for i in self.left)

    def size_of(self, node: Node) -> int:
        """Bytes that are copied of a file: no more than lie somewhere where it says that it is longer than its
        volume."""
        return _reach(self.volume, node)

    def begin(self) -> None:
        """The folders. Raises InputError, OSError."""
        self.target.mkdir(parents=True, exist_ok=True)
        room = shutil.disk_usage(self.target).free
        if self.need + _SPARE > room:
            raise InputError(f"--to {self.target}: expected room for {self.need} bytes, got {room} free")
        for item in self.items:
            if item.node.is_folder:
                with _of_one_file():
                    self.names.place(item).mkdir(parents=True, exist_ok=True)

    def take(self, items: Iterable[RescueItem]) -> None:
        """Copy these now. One that cannot be copied is marked, and takes no other away. Raises OSError where the folder
        takes nothing any more; each that is whole stays."""
        with _Lists(self.target, self.done) as lists:
            for item in items:
                told = self.names.told(item)
                lists.add(told, *_copied(self.volume, item, self.names.place(item), told, lists))
        self.left = [i for i in self.left if self.names.told(i) not in self.done]

    def finish(self) -> list[dict[str, str]]:
        """Times of folders and the lists; the rows of the manifest. Raises OSError."""
        for item in self.items:
            if item.node.is_folder and item.node.modified:
                _stamp(self.names.place(item), item.node.modified)
        files = [(item.node, self.names.told(item)) for item in self.files]
        self.streams = save_streams(self.volume, files, self.target)
        return _finished(self.target, self.done, self.items, self.names)


def copy(
    volume: Filesystem, target: Path, *, only: Sequence[str] | None = None, deleted: bool = False, image: str = ""
) -> dict[str, object]:
    """Copy what is wanted; what was copied before is left. Raises InputError where the target cannot take it; what was
    copied stays, and the next call goes on."""
    try:
        own = Rescue(volume, target, only=only, deleted=deleted)
        own.begin()
        own.take(own.left)
        rows = own.finish()
    except OSError as error:
        raise InputError(
            f"--to {target}: expected a folder that can be written, got {error.strerror}; recovered files are "
            f"kept, and the next call resumes"
        ) from error
    return {
        "image": image,
        "to": str(target),
        **summary(rows),
        "renamed": len(own.names.renamed(own.items)),
        "streams": own.streams,
    }


def not_whole(target: Path) -> list[str]:
    """Files of a rescue that are not whole, in the order of their paths. Raises InputError."""
    return sorted(path for path, row in _rows(target / MANIFEST).items() if row["state"] in (HOLES, LOST))


def summary(rows: Sequence[Mapping[str, str]]) -> dict[str, int]:
    """Files, bytes, and how many in each state."""
    states = [row["state"] for row in rows]
    return {
        "files": len(rows),
        "bytes": sum(int(row["bytes"]) for row in rows),
        **{state: states.count(state) for state in (WHOLE, HOLES, LOST, GONE)},
    }


def _matches(path: str, glob: str) -> bool:
    """A glob is of the whole path, of a folder with all below it, or, without a slash, of the name alone; an empty one
    is of what lies right below the root."""
    if not glob:
        return "/" not in path
    low, own = path.lower(), glob.replace("\\", "/").strip("/").lower()
    return (
        fnmatch.fnmatchcase(low, own)
        or fnmatch.fnmatchcase(low, f"{own}/*")
        or ("/" not in own and fnmatch.fnmatchcase(low.rpartition("/")[2], own))
    )


def _order(volume: Filesystem, item: RescueItem) -> tuple[bool, int]:
    try:
        runs = volume.runs(item.node)
    except DecodeError:
        return True, 0
    return item.state != WHOLE, next((r.at for r in runs if r.at is not None), 0)


class _Names:
    """Where each file and folder goes, for names that the target cannot hold too, and for those that are not the only
    one of their name: these are told by the number of their record, inode or first cluster, so that what is found later
    changes nothing."""

    def __init__(self, target: Path, below: str, items: Sequence[RescueItem]) -> None:
        self.target, self.below = target, below
        self.taken = {MANIFEST, HOLE_LIST, RENAMED, LINKS, SUMMARY, DELETED, FOLDER, LIST}
        self._longest = _LONGEST_PATH - len(os.fsencode(target)) - len(below) - 8
        self._of: dict[int, str] = {}
        by_place: dict[str, list[RescueItem]] = {}
        for item in items:
            by_place.setdefault(self._plain(item.node), []).append(item)
        above = {
            "/".join(parts[:n]) for parts in (plain.split("/") for plain in by_place) for n in range(1, len(parts))
        }
        for plain, own in by_place.items():
            folders = [i for i in own if i.node.is_folder]
            for item in folders:  # folders of one name hold what both hold
                self._of[id(item)] = plain
            files = [i for i in own if not i.node.is_folder]
            seen: dict[int, int] = {}
            for item in files:
                if len(files) == 1 and not folders and plain not in above:
                    self._of[id(item)] = plain
                    continue
                seen[item.node.id] = seen.get(item.node.id, 0) + 1
                again = f", {seen[item.node.id]}" if seen[item.node.id] > 1 else ""
                self._of[id(item)] = _numbered(plain, f" (node {item.node.id}{again})")

    def _plain(self, node: Node) -> str:
        parts = [_held(part) for part in node.path.split("/")]
        if not self.below and parts[0] in self.taken:
            parts[0] = f"{parts[0]} (of the volume)"
        own = "/".join(parts)
        if len(os.fsencode(own)) > self._longest:  # deeper than a path may be: by what it would have been
            own = f"deep paths/{hashlib.sha256(own.encode()).hexdigest()[:16]} {parts[-1][:80]}"
        return own

    def told(self, item: RescueItem) -> str:
        """As it stands in the lists: the path in the folder."""
        own = self._of[id(item)]
        return f"{self.below}/{own}" if self.below else own

    def place(self, item: RescueItem) -> Path:
        return self.target / self.told(item)

    def renamed(self, items: Sequence[RescueItem]) -> list[RescueItem]:
        """Those that lie under another name than the volume's, or whose name is told by an escape."""
        return [i for i in items if self._of[id(i)] != i.node.path or _ESCAPED.search(i.node.path)]


def _numbered(path: str, number: str) -> str:
    folder, slash, name = path.rpartition("/")
    stem, dot, kind = name.rpartition(".")
    if not stem or len(kind) > 12:
        stem, dot, kind = name, "", ""
    room = _LONGEST - len(f"{number}{dot}{kind}".encode())
    return f"{folder}{slash}{stem.encode()[:room].decode('utf-8', 'ignore')}{number}{dot}{kind}"


def _held(part: str) -> str:
    own = name_to_write(part.encode("utf-8", "backslashreplace").decode("utf-8")) or "(no name)"
    if own in (".", ".."):
        return own.replace(".", "\\x2e")
    raw = own.encode()
    if len(raw) > _LONGEST:
        own = f"{raw[: _LONGEST - 12].decode('utf-8', 'ignore')} {hashlib.sha256(raw).hexdigest()[:8]}"
    return own


@contextlib.contextmanager
def _of_one_file() -> Iterator[None]:
    """What goes wrong with one file alone is left to whoever marks it."""
    try:
        yield
    except OSError as error:
        if error.errno not in _OF_ONE:
            raise


_OF_ONE = (
    errno.ENAMETOOLONG,
    errno.EINVAL,
    errno.EILSEQ,
    errno.ENOTDIR,
    errno.EISDIR,
    errno.ELOOP,
    errno.EEXIST,
    errno.EACCES,
    errno.EPERM,
    errno.ENOENT,
    errno.ENOTEMPTY,
    errno.EFBIG,
    errno.EOVERFLOW,
)
"""errors that say something of one name or one file, not of the folder that all of them go to"""


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
    return {
        row["path"]: row
        for row in rows
        if all(row.get(c) for c in ("path", "bytes", "state")) and row["bytes"].isdigit()
    }


class _Lists:
    """The manifest as it grows, and the list of holes."""

    def __init__(self, target: Path, done: dict[str, dict[str, str]]) -> None:
        self.target, self.done = target, done

    def __enter__(self) -> _Lists:
        # the manifest anew with what is known: a row that was cut off is gone
        _write_rows(self.target / MANIFEST, _COLUMNS, self.done.values())
        self.file = (self.target / MANIFEST).open("a", encoding="utf-8", errors="backslashreplace", newline="")
        self.holes = (self.target / HOLE_LIST).open("a", encoding="utf-8", errors="backslashreplace", newline="")
        self.rows, self.hole_rows = csv.writer(self.file), csv.writer(self.holes)
        if not self.holes.tell():
            self.hole_rows.writerow(("path", "at", "bytes", "why"))
        return self

    def hole(self, told: str, at: int, hole: Hole) -> None:
        self.hole_rows.writerow((told, at, hole.length, hole.why))

    def add(self, told: str, size: int, digest: str, state: str) -> None:
        row = {"path": told, "bytes": str(size), "sha256": digest, "state": state}
        self.done[row["path"]] = row
        self.rows.writerow(row.values())
        self.holes.flush()
        self.file.flush()

    def __exit__(self, *_: object) -> None:
        self.file.close()
        self.holes.close()


def _copied(volume: Filesystem, item: RescueItem, place: Path, told: str, lists: _Lists) -> tuple[int, str, str]:
    """(bytes, SHA-256, state) of what lies there, read back; holes are left sparse in the target, and are in the list.
    Raises OSError where the folder takes nothing any more."""
    try:
        return _taken(volume, item, place, told, lists)
    except OSError as error:
        if error.errno not in _OF_ONE:
            raise
        why = error.strerror or str(error)
    except Exception as error:
        why = f"{type(error).__name__}: {error}"[:200]
    lists.hole(told, 0, Hole(item.node.size, f"it could not be copied: {why}"))
    return item.node.size, "", LOST


def _taken(volume: Filesystem, item: RescueItem, place: Path, told: str, lists: _Lists) -> tuple[int, str, str]:
    if item.state == LOST or item.node.opaque:
        return item.node.size, "", LOST
    place.parent.mkdir(parents=True, exist_ok=True)
    part, digest = (
        place.with_name(f"{place.name.encode()[:80].decode('utf-8', 'ignore')}.{os.getpid()}.part"),
        hashlib.sha256(),
    )
    at, gone, reach = 0, 0, _reach(volume, item.node)
    holes: list[tuple[int, Hole]] = [
        (s.at, Hole(s.length, f"another file claims it too: {s.other.path}")) for s in item.shared
    ]
    try:
        with part.open("wb") as file:
            for piece in limited(_pieces(volume, item.node), reach):
                if isinstance(piece, Hole):
                    holes.append((at, piece))
                    _hashed_zeros(digest, piece.length)
                    file.seek(piece.length, os.SEEK_CUR)
                    at, gone = at + piece.length, gone + piece.length
                else:
                    digest.update(piece)
                    file.write(piece)
                    at += len(piece)
            file.truncate(at)
        if reach < item.node.size:
            holes.append((reach, Hole(item.node.size - reach, "longer than its volume: there is nothing")))
        lost = bool(at) and gone >= at and not item.node.deleted
        if not lost and _sum_read_back(part) != digest.hexdigest():
            raise OSError(errno.EIO, "the folder gave back other bytes than were written to it")
        if lost:  # nothing but zeros that nobody read: no file is better than that one
            place.unlink(missing_ok=True)
        else:
            part.replace(place)
    finally:
        part.unlink(missing_ok=True)
    for where, hole in holes:
        lists.hole(told, where, hole)
    if lost:
        return item.node.size, "", LOST
    if item.node.modified:
        _stamp(place, item.node.modified)
    if item.node.deleted:
        return at, digest.hexdigest(), GONE
    lacks = gone or reach < item.node.size or item.state == HOLES
    return at, digest.hexdigest(), HOLES if lacks else WHOLE


def _sum_read_back(place: Path) -> str:
    """What was written, as it is read back."""
    with place.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


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


def _finished(
    target: Path, done: dict[str, dict[str, str]], items: Sequence[RescueItem], names: _Names
) -> list[dict[str, str]]:
    """Lists in the order of their paths, so that a copy that was interrupted ends as one that was not. What the
    manifest counts is what lies in the folder."""
    holes = list(csv.DictReader(io.StringIO((target / HOLE_LIST).read_text(encoding="utf-8"))))
    for told, row in done.items():
        if row["state"] != LOST and not _is_there(row, target / told):
            holes.append(
                {
                    "path": told,
                    "at": "0",
                    "bytes": row["bytes"],
                    "why": "it was copied, and is no longer in the folder",
                }
            )
            done[told] = {**row, "sha256": "", "state": LOST}
    rows = [done[path] for path in sorted(done)]
    _write_rows(target / MANIFEST, _COLUMNS, rows)
    if holes:
        unique = {tuple(h.values()): h for h in holes}
        _write_rows(
            target / HOLE_LIST,
            ("path", "at", "bytes", "why"),
            [unique[k] for k in sorted(unique, key=lambda k: (k[0], int(k[1])))],
        )
    else:
        (target / HOLE_LIST).unlink()
    links = [i for i in items if i.node.link]
    if links:
        _write_rows(
            target / LINKS,
            ("path", "leads_to"),
            [{"path": i.node.path, "leads_to": i.node.link} for i in sorted(links, key=lambda i: i.node.path)],
        )
    renamed = [i for i in names.renamed(items) if not i.node.link]
    if renamed:
        rows_of = [{"path": i.node.path, "saved_as": names.told(i), "node": str(i.node.id)} for i in renamed]
        _write_rows(
            target / RENAMED, ("path", "saved_as", "node"), sorted(rows_of, key=lambda r: (r["path"], r["saved_as"]))
        )
    return rows


def _write_rows(place: Path, columns: Sequence[str], rows: object) -> None:
    """Whole under its name, or as it was."""
    with durable(place) as raw:
        text = io.TextIOWrapper(raw, encoding="utf-8", errors="backslashreplace", newline="", write_through=True)
        writer = csv.DictWriter(text, columns, extrasaction="ignore")
        writer.writeheader()
        writer.writerows(rows)  # type: ignore[arg-type]
        text.detach()
