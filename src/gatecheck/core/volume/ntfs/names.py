"""Names of NTFS records against entries of folders, for tables of millions: not the names are kept, but for each folder
what is left of their sum.

Every name that a record says of itself adds a number to its folder's sum, every entry of that folder takes one away.
Where nothing is left (modulo 2^64), both sides tell the same; only of the other folders the names have to be gathered,
in a second walk."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.volume.ntfs.bulk import Ints
from gatecheck.core.volume.ntfs.read import EXTEND, ROOT

_PRIMES = np.array([0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9], np.uint64)


class Names:
    """Sums by folder, shape (records,), and which folders names say they stand in."""

    def __init__(self, records: int) -> None:
        self.sums = np.zeros(records, np.uint64)
        self.wanted = np.zeros(records, bool)
        self.outside = False
        """a name says that it stands in a record that the table has not"""

    def tell(self, parent: Ints, number: Ints, mark: Ints) -> None:
        """Names of records: their folder, the record, the name's number (`ntfs_many.marks`), shape (n,) each."""
        inside = parent < len(self.sums)
        if not inside.all():
            self.outside = True
            parent, number, mark = parent[inside], number[inside], mark[inside]
        np.add.at(self.sums, parent, _mixed(number, mark))
        self.wanted[parent] = True

    def list(self, folder: Ints, number: Ints, mark: Ints) -> None:
        """Entries of folders."""
        np.subtract.at(self.sums, folder, _mixed(number, mark))

    def done(self) -> None:
        """Nothing more is asked of it: its room is given back."""
        self.sums, self.wanted = self.sums[:0].copy(), self.wanted[:0].copy()

    def mismatched_names(self) -> NDArray[np.bool_]:
        """Folders whose entries are not what records say, shape (records,)."""
        return np.asarray(self.sums != 0)


def _mixed(number: Ints, mark: Ints) -> NDArray[np.uint64]:
    """One number for a record and its name, bits far apart, the same for the same ones."""
    told = (number.astype(np.uint64) + np.uint64(1)) * _PRIMES[0] ^ mark.astype(np.uint64) * _PRIMES[1]
    told ^= told >> np.uint64(29)
    told *= _PRIMES[0]
    return np.asarray(told ^ told >> np.uint64(32))


_NO_FOLDER, _ELSEWHERE = -1, -2


class Parents:
    """Folder -> the folder it stands in, for folders of a table of so many records."""

    def __init__(self, records: int) -> None:
        self.of = np.full(records, _NO_FOLDER, np.int32 if records < 1 << 31 else np.int64)

    def __contains__(self, number: int) -> bool:
        return 0 <= number < len(self.of) and self.of[number] != _NO_FOLDER

    def put(self, numbers: Ints, parents: Ints) -> None:
        self.of[numbers] = np.where(parents < len(self.of), parents, _ELSEWHERE)

    def numbers(self) -> Ints:
        """All folders, in order."""
        return np.flatnonzero(self.of != _NO_FOLDER)

    def without_folder(self, names: Names, used: NDArray[np.uint8], unread: set[int]) -> NDArray[np.bool_]:
        """Records that names say they stand in and that are no folder in use, shape (records,)."""
        bare: NDArray[np.bool_] = names.wanted & ((used == 0) | (self.of == _NO_FOLDER))
        for own in (ROOT, EXTEND):
            if own < len(bare) and used[own]:
                bare[own] = False
        for number in unread:
            if number < len(bare):
                bare[number] = False
        return bare

    def folder_cycles(self) -> Ints:
        """Folders that lead in a circle, or into one, in order: those that are not at the root, or out of the table,
        after more steps than there are folders."""
        folders = self.numbers()
        parents = self.of[folders]
        place = np.searchsorted(folders, parents)
        known = (
            (place < len(folders)) & (folders[np.minimum(place, max(len(folders) - 1, 0))] == parents)
            if len(folders)
            else np.zeros(0, bool)
        )
        after = np.append(np.where(known, place, len(folders)), len(folders))  # the last: an end
        after[:-1][folders == ROOT] = len(folders)
        for _ in range(len(folders).bit_length() + 1):
            after = after[after]
        return np.asarray(folders[after[:-1] != len(folders)])
