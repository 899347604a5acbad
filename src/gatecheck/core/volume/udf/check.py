"""UDF: every file entry and every folder by its tag, its checksum and its CRC; links counted; whether what is named is
inside its partition."""

from __future__ import annotations

from collections.abc import Callable

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.inode_tree import id_of
from gatecheck.core.volume.tree import DAMAGE, VolumeFinding
from gatecheck.core.volume.udf import layout as u
from gatecheck.core.volume.udf.read import Udf

Add = Callable[[VolumeFinding], None]


def check_udf(volume: Udf, add: Add) -> tuple[int | None, int | None]:
    """(files, bytes used)."""
    named, name, used, files = {volume.top: 0}, {volume.top: "/"}, 0, 0
    waiting, whole = [volume.top], True
    while waiting:
        number = waiting.pop()
        try:
            own = volume.entry(number)
        except DecodeError as error:
            add(VolumeFinding(id_of(error, "sum"), DAMAGE, f"{name[number]}: {error}"))
            whole = False
            continue
        try:
            for part in volume.stretches(number):
                used += part.length if part.place is not None else 0
        except DecodeError as error:
            add(VolumeFinding(id_of(error, "extents"), DAMAGE, f"{name[number]}: {error}"))
        if own.type != u.FOLDER:
            files += 1
            continue
        try:
            for entry, target in volume.entries(number):
                named[target] = named.get(target, 0) + 1
                if target not in name:
                    name[target] = f"{name[number].rstrip('/')}/{entry}"
                    waiting.append(target)
        except DecodeError as error:
            add(VolumeFinding(id_of(error, "folder-broken"), DAMAGE, f"{name[number]}: {error}"))
            whole = False
    if whole:
        _links(volume, named, name, add)
    return files, used


def _links(volume: Udf, named: dict[int, int], name: dict[int, str], add: Add) -> None:
    for number, real in named.items():
        own = volume.entry(number)
        if own.type != u.FOLDER and own.links != real:
            add(VolumeFinding("link-count", DAMAGE, name[number], values={"told": own.links, "real": real}))
