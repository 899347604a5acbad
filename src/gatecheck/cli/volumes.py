"""Checking a volume on a disk image, and copying what can be saved from it."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.adapters import file_rescue, image_writer
from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.adapters.shipped_tables import disk_words
from gatecheck.cli.disks import taken_back
from gatecheck.cli.locked import opened_with_key, with_key
from gatecheck.cli.output import print_json
from gatecheck.cli.places import asked_place, pieces_of
from gatecheck.core.disk.bootpath import BIOS, UEFI, boot_path
from gatecheck.core.disk.mend import merged
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import InputError
from gatecheck.core.locked.model import Opened
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.lvm.largest import largest_of_group
from gatecheck.core.volume.repair import repair_of
from gatecheck.core.volume.tree import Filesystem


def place_of(disk: Sectors, at: int | None, partition: int | None) -> tuple[int, int]:
    """(first, last LBA) of the volume that is meant. Raises InputError."""
    asked = asked_place(disk, at, partition)
    if asked is not None:
        return asked
    length = disk.length or 0
    whole = opened(disk, 0, length - 1)
    inside = [p for p in pieces_of(disk) if p.first < length]
    if (whole.volume is not None and not (whole.from_copy and inside)) or not inside:
        return 0, length - 1
    readable = [p for p in inside if opened(disk, p.first, min(p.last, length - 1)).volume is not None] or inside
    largest = max(readable, key=lambda p: p.last - p.first)
    return largest.first, min(largest.last, length - 1)


def volume(arguments: argparse.Namespace) -> int:
    if arguments.revert:
        if arguments.repair or arguments.apply or arguments.undo:
            raise InputError("--revert: expected alone, got it with --repair, --apply or --undo")
        print_json(taken_back(arguments.image, arguments.revert))
        return 0
    if not arguments.repair and (arguments.apply or arguments.undo or arguments.only):
        raise InputError("--apply, --undo, --only: expected with --repair, got them without")
    if arguments.apply != (arguments.undo is not None):
        raise InputError("--apply and --undo FILE: expected both, got one")
    if arguments.repair:
        return _repair(arguments)
    words = disk_words()
    disk, place = _opened_place(arguments)
    found = check(disk, *place)
    print_json(
        {
            "kind": found.kind,
            "label": found.label,
            "state": found.state,
            "size": found.size,
            "used": found.used,
            "files": found.files,
            "findings": [
                {
                    "id": f.id,
                    "severity": f.severity,
                    "where": f.where,
                    "text": words.say(f.text),
                    "repairable": f.repairable,
                }
                for f in found.findings
            ],
            "systems": [{"name": s.name, "version": s.version, "root": s.root} for s in found.systems],
            "check_minutes": found.check_minutes,
            "repair_minutes": found.repair_minutes,
        }
    )
    return 0


@dataclass(frozen=True, slots=True)
class _Ground:
    """What a repair sees, and where the volume stands in it; `opened`: what a key opened, None where there is none."""

    seen: Sectors
    place: tuple[int, int]
    opened: Opened | None = None

    def to_disk(self, writes: Sequence[tuple[int, bytes]]) -> list[tuple[int, bytes]]:
        """As they stand on the disk: encrypted where the volume is. Raises InputError where that is not safe."""
        return list(writes) if self.opened is None else self.opened.to_disk(writes)


def _ground(arguments: argparse.Namespace) -> _Ground:
    disk = ImageSectors(arguments.image, sector=arguments.sector_size)
    found = opened_with_key(arguments, disk)
    if found is None:
        return _Ground(disk, place_of(disk, arguments.at, arguments.partition))
    inside = found[1].inside
    return _Ground(inside, largest_of_group(inside) or place_of(inside, None, None), found[1])


def _repair(arguments: argparse.Namespace) -> int:
    words, ground = disk_words(), _ground(arguments)
    disk, place = ground.seen, ground.place
    if arguments.apply and arguments.undo.exists():
        undo = image_writer.read_undo(arguments.undo)
        with image_writer.target(arguments.image) as own:
            if not image_writer.go_on(own, undo):
                raise InputError(
                    f"--undo {arguments.undo}: expected a name that is free, got the undo file of what is applied "
                    f"already; --revert takes it back"
                )
        return _repaired(arguments, undo.plans, ground)
    found = repair_of(disk, *place, only=arguments.only)
    if arguments.only:
        unknown = [name for name in arguments.only if name not in {g.id for g in found.groups}]
        if unknown:
            names = ", ".join(g.id for g in repair_of(disk, *place).groups) or "no group: there is nothing to repair"
            raise InputError(f"--only: expected some of {names}, got {unknown[0]!r}")
    if not arguments.apply:
        plans = [
            {
                "id": g.id,
                "what": words.say(g.what),
                "doubts": [words.say(d) for d in g.doubts],
                "touches": list(g.touches),
                "writes": [{"at": w.at, "length": len(w.data), "field": words.say(w.field)} for w in g.writes],
            }
            for g in found.groups
        ]
        print_json(
            {
                "state": found.now.state,
                "plans": plans,
                "state_after": found.after.state,
                "refused": words.say(found.refused) or None,
                "left": [{"id": f.id, "where": f.where, "text": words.say(f.text)} for f in found.left],
            }
        )
        return 0
    if not found.groups:
        raise InputError(
            f"--apply: expected something to repair on {arguments.image}, got {words.say(found.refused) or 'no plan'}"
        )
    with image_writer.target(arguments.image) as own:
        now = repair_of(disk, *place, only=arguments.only)  # planned anew now that nobody else writes to it
        before = _starts(arguments)
        image_writer.apply(
            own,
            arguments.undo,
            [g.id for g in now.groups],
            ground.to_disk(merged(disk, [pair for g in now.groups for pair in g.pairs])),
        )
        lost = before - _starts(arguments)
        if lost:
            image_writer.revert(own, image_writer.read_undo(arguments.undo))
            raise InputError(
                f"--apply: expected the disk to start after it as it did before ({', '.join(sorted(lost))}), "
                f"got one that does not: everything was undone at once"
            )
    return _repaired(arguments, [g.id for g in now.groups], ground)


def _starts(arguments: argparse.Namespace) -> set[str]:
    """The modes in which the image would start as it is."""
    disk = ImageSectors(arguments.image, sector=arguments.sector_size)
    return {mode for mode in (UEFI, BIOS) if boot_path(disk, mode).boots}


def _repaired(arguments: argparse.Namespace, applied: Sequence[str], ground: _Ground) -> int:
    """The verdict afterwards."""
    words = disk_words()
    after = check(ground.seen, *ground.place)
    left = [{"id": f.id, "where": f.where, "text": words.say(f.text)} for f in after.findings]
    print_json({"applied": list(applied), "state": after.state, "findings": left, "undo": str(arguments.undo)})
    return 0


def _opened_place(arguments: argparse.Namespace) -> tuple[Sectors, tuple[int, int]]:
    """The disk, its encrypted volume open where a key was given, and where the volume stands that is meant: a volume
    inside (of LVM, the largest), else what was asked for."""
    disk = ImageSectors(arguments.image, sector=arguments.sector_size)
    view = with_key(arguments, disk)
    if view is None:
        return disk, place_of(disk, arguments.at, arguments.partition)
    inside = view.inside
    whole = (0, inside.length - 1)
    place = largest_of_group(inside) or place_of(inside, None, None)
    return (view, view.place) if place == whole else (inside, place)


def _readable(disk: Sectors, place: tuple[int, int], image: str) -> Filesystem:
    own = opened(disk, *place)
    if own.volume is None:
        known = own.known
        raise InputError(
            f"{image}: expected a volume that can be read, got "
            f"{known.name if known and not own.problem else own.problem or 'none'}"
        )
    return own.volume


def rescue(arguments: argparse.Namespace) -> int:
    if (arguments.list is None) == (arguments.to is None):
        raise InputError("--list or --to DIR: expected one of them, got " + ("both" if arguments.to else "neither"))
    own = _readable(*_opened_place(arguments), arguments.image)
    if arguments.list is not None:
        found = file_rescue.listed(own, arguments.list)
        if not found and arguments.list.strip("/"):
            raise InputError(f"--list: expected a folder or file of the volume, got {arguments.list!r}")
        print_json(
            [
                {"path": i.node.path, "bytes": i.node.size, "state": i.state}
                for i in found
                if not i.node.is_folder and not i.node.link
            ]
        )
        return 0
    print_json(
        file_rescue.copy(own, arguments.to, only=arguments.only, deleted=arguments.deleted, image=arguments.image)
    )
    return 0
