"""ISO 9660: every record of every folder, both orders of its numbers, and whether what it names is on the disc. The
format has no checksums and no map."""

from __future__ import annotations

from collections.abc import Callable

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.inode_tree import id_of
from gatecheck.core.volume.iso9660.read import Iso9660
from gatecheck.core.volume.tree import DAMAGE, VolumeFinding

Add = Callable[[VolumeFinding], None]


def check_iso9660(volume: Iso9660, add: Add) -> tuple[int | None, int | None]:
    """(files, bytes used)."""
    waiting, seen, files = [(volume.top, "/")], {volume.top}, 0
    room = (volume.last - volume.first + 1) * volume.disk.sector
    if volume.size > room:
        add(VolumeFinding("beyond", DAMAGE, volume.label or "volume"))
    while waiting:
        number, where = waiting.pop()
        try:
            for own in volume.records(volume.record(number)):
                if not own.agrees:
                    add(VolumeFinding("entry-broken", DAMAGE, f"{where}: byte {own.at}"))
            for name, target in volume.entries(number):
                path = f"{where.rstrip('/')}/{name}"
                node = volume.made(target, path)
                if node.is_folder and target not in seen:
                    seen.add(target)
                    waiting.append((target, path))
                elif not node.is_folder:
                    files += 1
                    _file(volume, target, path, add)
        except DecodeError as error:
            add(VolumeFinding(id_of(error, "folder-broken"), DAMAGE, f"{where}: {error}"))
    return files, volume.size


def _file(volume: Iso9660, number: int, path: str, add: Add) -> None:
    try:
        for _ in volume.stretches(number):
            pass
    except DecodeError:
        add(VolumeFinding("beyond", DAMAGE, path))
