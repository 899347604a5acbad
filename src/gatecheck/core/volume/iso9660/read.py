"""ISO 9660 with the names of Rock Ridge or Joliet where a disc has them.

ECMA-119 (volume descriptors, directory records); IEEE P1281 and P1282 (system use, Rock Ridge); Joliet as its
specification has it: a second descriptor whose names are UCS-2.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.calendar_days import days_of
from gatecheck.core.volume.inode_tree import FileStretch, InodeTree
from gatecheck.core.volume.names import name_of_bytes, name_of_utf16
from gatecheck.core.volume.place import CATALOGUE, Place
from gatecheck.core.volume.tree import Node
from gatecheck.core.words.said import say

SECTOR, FIRST_DESCRIPTOR, MARK = 2048, 16, b"CD001"
_MOST_DESCRIPTORS, _MOST_FOLDER, _MOST_CONTINUED = 64, 64 << 20, 32
_JOLIET = (b"%/@", b"%/C", b"%/E")
_FOLDER, _GOES_ON, _LINK = 0x02, 0x80, 0o120000


@dataclass(frozen=True, slots=True)
class DirectoryRecord:
    """`at`: byte of the volume at which it stands; `system`: its system use field."""

    at: int
    length: int
    block: int
    size: int
    modified: float | None
    flags: int
    name: bytes
    system: bytes
    agrees: bool
    """its numbers are the same in both orders of bytes"""


def read_record(raw: bytes, at: int) -> DirectoryRecord | None:
    """None at the end of a sector's records. Raises DecodeError."""
    length = raw[0] if raw else 0
    if not length:
        return None
    named = raw[32] if len(raw) > 33 else 0
    if length < 34 or length > len(raw) or 33 + named > length:
        raise DecodeError("ISO 9660 directory record", at=at, expected="a record inside its sector", got=length)
    little = (int.from_bytes(raw[2:6], "little"), int.from_bytes(raw[10:14], "little"))
    big = (int.from_bytes(raw[6:10], "big"), int.from_bytes(raw[14:18], "big"))
    return DirectoryRecord(
        at, length, little[0] + raw[1], little[1], _time(raw[18:25]), raw[25], raw[33 : 33 + named],
        raw[33 + named + 1 - named % 2 : length], little == big,
    )  # fmt: skip


def _time(raw: bytes) -> float | None:
    year, month, day, hour, minute, second = raw[:6]
    if not (1 <= month <= 12 and 1 <= day <= 31):
        return None
    zone = raw[6] - 256 if raw[6] > 127 else raw[6]
    return days_of(1900 + year, month, day) * 86400 + hour * 3600 + minute * 60 + second - zone * 900


@dataclass(frozen=True, slots=True)
class SystemUse:
    """What the system use field says: name, mode, link; `moved`: the block of the folder that it stands for;
    `is_moved`: it is such a folder, at the place where it does not belong; `is_packed`: its bytes are compressed."""

    name: bytes = b""
    mode: int = 0
    link: str = ""
    moved: int | None = None
    is_moved: bool = False
    is_packed: bool = False


class Iso9660(InodeTree):
    """Raises DecodeError where no volume descriptor can be worked with."""

    kind = "ISO 9660"
    ignores_case = True

    def __init__(self, disk: Sectors, first: int, last: int) -> None:
        super().__init__(disk, first, last)
        primary, joliet = self._descriptors()
        self.block = int.from_bytes(primary[128:130], "little")
        self.blocks = int.from_bytes(primary[80:84], "little")
        if self.block not in (512, 1024, 2048) or not self.blocks:
            raise DecodeError("ISO 9660 volume descriptor", at=128, expected="blocks of 512 to 2048", got=self.block)
        self.size = self.block * self.blocks
        self.label = primary[40:72].decode("ascii", "replace").strip()
        self.root_at, self.skip = FIRST_DESCRIPTOR * SECTOR + 156, 0
        self.has_long_names = self._is_rock_ridge()
        self.is_joliet = joliet is not None and not self.has_long_names
        if joliet is not None and self.is_joliet:
            self.root_at = joliet
        self.top = self.root_at
        self.record(self.top)

    def _descriptors(self) -> tuple[bytes, int | None]:
        """(the primary one, byte of the root's record in a Joliet one)."""
        primary, joliet = b"", None
        for number in range(FIRST_DESCRIPTOR, FIRST_DESCRIPTOR + _MOST_DESCRIPTORS):
            raw = self.bytes.read(number * SECTOR, SECTOR, "ISO 9660 volume descriptor")
            if raw[1:6] != MARK or raw[0] == 255:
                break
            if raw[0] == 1 and not primary:
                primary = raw
            if raw[0] == 2 and raw[88:91] in _JOLIET:
                joliet = number * SECTOR + 156
        if not primary:
            raise DecodeError("ISO 9660 volume descriptor", at=FIRST_DESCRIPTOR * SECTOR, expected="one", got="none")
        return primary, joliet

    def _is_rock_ridge(self) -> bool:
        """The root's own record begins its system use with the mark for it."""
        root = self.record(self.root_at)
        own = next(iter(self.records(root)), None)
        if own is None or own.system[:2] != b"SP" or own.system[4:6] != b"\xbe\xef":
            return False
        self.skip = own.system[6]
        return any(self.told(r).name for r in list(self.records(root))[2:6]) or len(list(self.records(root))) <= 2

    # --- records

    def record(self, at: int) -> DirectoryRecord:
        """The record that stands at this byte. Raises DecodeError."""
        length = self.bytes.read(at, 1, "ISO 9660 directory record")[0]
        found = read_record(self.bytes.read(at, max(length, 1), "ISO 9660 directory record"), at)
        if found is None:
            raise DecodeError("ISO 9660 directory record", at=at, expected="a record", got="none")
        return found

    def records(self, folder: DirectoryRecord) -> Iterator[DirectoryRecord]:
        """Of a folder, its own and that of the one above first. Raises DecodeError, after those that could be read."""
        start, size = folder.block * self.block, min(folder.size, _MOST_FOLDER)
        if start + size > self.size:
            raise DecodeError("ISO 9660 folder", at=start, expected=f"below byte {self.size}", got=start + size)
        for at in range(0, size, SECTOR):
            raw = self.bytes.read(start + at, min(SECTOR, size - at), "ISO 9660 folder")
            place = 0
            while place < len(raw):
                own = read_record(raw[place:], start + at + place)
                if own is None:
                    break
                yield own
                place += own.length

    def told(self, own: DirectoryRecord) -> SystemUse:
        """Raises DecodeError where what it goes on with cannot be read."""
        found, link, goes_on = SystemUse(), list[str](), False
        raw, at = own.system[self.skip :], 0
        for _ in range(_MOST_CONTINUED):
            following: tuple[int, int, int] | None = None
            at = 0
            while at + 4 <= len(raw) and raw[at + 2] >= 4 and at + raw[at + 2] <= len(raw):
                mark, data = raw[at : at + 2], raw[at + 4 : at + raw[at + 2]]
                if mark == b"NM" and not data[0] & 6:
                    found = _with(found, name=found.name + data[1:])
                elif mark == b"PX":
                    found = _with(found, mode=int.from_bytes(data[:4], "little"))
                elif mark == b"SL":
                    goes_on = _parts(data, link, goes_on)
                elif mark == b"CL":
                    found = _with(found, moved=int.from_bytes(data[:4], "little"))
                elif mark == b"RE":
                    found = _with(found, is_moved=True)
                elif mark == b"ZF":
                    found = _with(found, is_packed=True)
                elif mark == b"CE" and len(data) >= 24:
                    block, offset, length = (int.from_bytes(data[n : n + 4], "little") for n in (0, 8, 16))
                    following = (block, offset, min(length, SECTOR))
                at += raw[at + 2]
            if following is None:
                break
            raw = self.bytes.read(following[0] * self.block + following[1], following[2], "ISO 9660 system use")
        return _with(found, link="/".join(link).replace("//", "/"))

    # --- files and folders

    def made(self, number: int, path: str) -> Node:
        own = self.record(number)
        is_folder = bool(own.flags & _FOLDER)
        told = self.told(own) if self.has_long_names else SystemUse()
        link = told.link if told.mode & 0o170000 == _LINK else ""
        size = 0 if is_folder else sum(part.size for part in self._parts_of(own))
        opaque = "compressed on the disc" if told.is_packed else ""
        return Node(number, path, is_folder, size, own.modified, link=link, opaque=opaque)

    def _parts_of(self, own: DirectoryRecord) -> Iterator[DirectoryRecord]:
        """A file's record, and those that it goes on with."""
        yield own
        while own.flags & _GOES_ON:
            own = self.record(own.at + own.length)
            yield own

    def entries(self, number: int) -> Iterator[tuple[str, int]]:
        goes_on = False
        for own in self.records(self.record(number)):
            is_more, goes_on = goes_on, bool(own.flags & _GOES_ON)
            if own.name in (b"\0", b"\1") or is_more:
                continue
            told = self.told(own) if self.has_long_names else SystemUse()
            if told.is_moved:
                continue
            at = own.at if told.moved is None else told.moved * self.block
            yield self._name(own, told), at

    def _name(self, own: DirectoryRecord, told: SystemUse) -> str:
        if told.name:
            return name_of_bytes(told.name)
        if self.is_joliet:
            text = own.name.decode("utf-16-be", "surrogatepass")
            text = text.rpartition(";")[0] if ";" in text else text
            return name_of_utf16(text.encode("utf-16-le", "surrogatepass"))
        name = own.name.rpartition(b";")[0] if b";" in own.name else own.name
        return name_of_bytes(name.removesuffix(b"."))

    def stretches(self, number: int) -> Iterator[FileStretch]:
        at = 0
        own = self.record(number)
        for part in self._parts_of(own):
            place = part.block * self.block
            if place + part.size > self.size and part.size:
                raise DecodeError("ISO 9660 file", at=place, expected=f"below byte {self.size}", got=place + part.size)
            yield FileStretch(at, part.size, place)
            at += part.size

    def own_place(self, at: int) -> Place | None:
        if FIRST_DESCRIPTOR * SECTOR <= at < (FIRST_DESCRIPTOR + 4) * SECTOR:
            return Place(say("where.own-file"), None, CATALOGUE)
        return None

    def rest_place(self, at: int) -> Place:
        """The format has no map: what is not zero is not called free."""
        try:
            if not any(self.bytes.read(at - at % SECTOR, SECTOR, "ISO 9660 sector")):
                return super().rest_place(at)
        except DecodeError:
            pass  # not read: not known to be free
        return Place(say("where.own-file"), None, CATALOGUE)


def _with(told: SystemUse, **more: object) -> SystemUse:
    values = {name: getattr(told, name) for name in SystemUse.__slots__}
    return SystemUse(**{**values, **more})


def _parts(data: bytes, link: list[str], goes_on: bool) -> bool:
    """Adds the components of a link; true where the last one goes on in the next field."""
    at = 1
    while at + 2 <= len(data):
        flags, length = data[at], data[at + 1]
        text = data[at + 2 : at + 2 + length].decode("utf-8", "replace")
        own = "." if flags & 2 else ".." if flags & 4 else "/" if flags & 8 else text
        if goes_on and link:
            link[-1] += own
        else:
            link.append(own)
        goes_on = bool(flags & 1)
        at += 2 + length
    return goes_on
