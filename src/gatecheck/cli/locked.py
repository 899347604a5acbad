"""Encrypted volumes on disk images: what they are, and what is inside with a key."""

from __future__ import annotations

import argparse

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.adapters.key_file import free_memory, read_key
from gatecheck.adapters.plain_writer import write_plain
from gatecheck.cli.output import print_json
from gatecheck.cli.places import asked_place, pieces_of
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError, InputError
from gatecheck.core.locked.find import locked_at
from gatecheck.core.locked.keys import Key
from gatecheck.core.locked.model import Locked, Opened
from gatecheck.core.locked.sectors import WithOpened
from gatecheck.core.volume.check import opened


def locked_places(disk: Sectors, at: int | None, partition: int | None) -> list[tuple[int, int]]:
    """(first, last LBA) of where an encrypted volume can be: what was asked for, else the whole image, else each
    partition, the largest first. Raises InputError."""
    asked = asked_place(disk, at, partition)
    if asked is not None:
        return [asked]
    length = disk.length or 0
    largest = sorted((p for p in pieces_of(disk) if p.first < length), key=lambda p: p.first - p.last)
    return [(0, length - 1), *((p.first, min(p.last, length - 1)) for p in largest)]


def _all_locked(arguments: argparse.Namespace, disk: Sectors) -> list[tuple[tuple[int, int], Locked]]:
    """Every one that is there. Raises InputError where there is none, and for one whose records cannot be read."""
    found, problem = [], ""
    at, partition = getattr(arguments, "at", None), getattr(arguments, "partition", None)
    for place in locked_places(disk, at, partition):
        try:
            own = locked_at(disk, *place, memory=free_memory())
        except DecodeError as error:
            problem = problem or str(error)
            continue
        if own is not None:
            found.append((place, own))
            if place == (0, (disk.length or 0) - 1):
                break
    if not found:
        raise InputError(f"{arguments.image}: expected an encrypted volume, got {problem or 'none'}")
    return found


def with_key(arguments: argparse.Namespace, disk: Sectors) -> WithOpened | None:
    """The disk with its encrypted volume open, None where no key was given. Raises InputError."""
    found = opened_with_key(arguments, disk)
    return None if found is None else WithOpened(disk, *found[0], found[1].inside)


def opened_with_key(arguments: argparse.Namespace, disk: Sectors) -> tuple[tuple[int, int], Opened] | None:
    """((first, last LBA), the volume that the key opens), None where no key was given. Raises InputError."""
    if arguments.key_file is None:
        return None
    key = read_key(arguments.key_file)
    said: list[InputError] = []
    for place, own in _all_locked(arguments, disk):
        try:
            return place, own.open(key)
        except (InputError, DecodeError) as error:
            said.append(InputError(str(error)))
    raise said[0]


def unlock(arguments: argparse.Namespace) -> int:
    disk = ImageSectors(arguments.image, sector=arguments.sector_size)
    found = _all_locked(arguments, disk)
    key = read_key(arguments.key_file) if arguments.key_file is not None else None
    own, open_now = found[0][1], None
    if key is not None or not own.needs_key:
        own, open_now = _opened(found, key)
    elif arguments.to is not None:
        own.open(None)  # says which key it expects
    report = {
        "kind": own.kind,
        "id": own.id,
        "method": own.method,
        "sector": own.sector,
        "state": own.state,
        "protectors": [{"id": p.id, "how": p.how, "opens": p.opens} for p in own.protectors],
        "opened_by": open_now.by if open_now else None,
        "size": own.size,
        "inner": _inner(open_now) if open_now else None,
        "copies": {"read": own.copies, "damaged": own.hurt},
    }
    if arguments.to is not None and open_now is not None:
        done = write_plain(open_now.inside, own.id, arguments.to, image=arguments.image)
        report["written"] = {
            "to": str(arguments.to),
            "bytes": done.bytes,
            "resumed": done.resumed,
            "unreadable": len(done.missing),
        }
    print_json(report)
    return 0


def _opened(found: list[tuple[tuple[int, int], Locked]], key: Key | None) -> tuple[Locked, Opened]:
    """The first that the key opens. Raises what the first one said."""
    said: list[InputError] = []
    for _, own in found:
        try:
            return own, own.open(key)
        except (InputError, DecodeError) as error:
            said.append(InputError(str(error)))
    raise said[0]


def _inner(now: Opened) -> str | None:
    """The kind of the volume inside."""
    inside = now.inside
    own = opened(inside, 0, inside.length - 1)
    if own.volume is not None:
        return own.volume.kind
    return own.known.kind if own.known is not None else None
