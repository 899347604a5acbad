"""Checking a volume on a disk image, and copying what can be saved from it."""

from __future__ import annotations

import argparse
from collections.abc import Sequence

from gatecheck.adapters import file_rescue
from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.adapters.shipped_tables import disk_words
from gatecheck.cli.locked import with_key
from gatecheck.cli.output import print_json
from gatecheck.cli.places import volume_in
from gatecheck.cli.repairing import asked_repair, plans_shown, repair_target, repaired
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import InputError
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.repair import Repair, repair_of
from gatecheck.core.volume.tree import Filesystem


def volume(arguments: argparse.Namespace) -> int:
    asked = asked_repair(arguments, arguments.image)
    if asked is not None:
        return asked
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


def _repair(arguments: argparse.Namespace) -> int:
    words, own = disk_words(), repair_target(arguments, arguments.image)

    def plan(only: Sequence[str] | None) -> Repair:
        return repair_of(own.seen, *own.place, only=only)

    def shown(found: Repair) -> dict[str, object]:
        return {
            "state": found.now.state,
            **plans_shown(found),
            "state_after": found.after.state,
            "left": [{"id": f.id, "where": f.where, "text": words.say(f.text)} for f in found.left],
        }

    def after() -> dict[str, object]:
        """The verdict afterwards."""
        now = check(own.seen, *own.place)
        return {
            "state": now.state,
            "findings": [{"id": f.id, "where": f.where, "text": words.say(f.text)} for f in now.findings],
        }

    return repaired(arguments, arguments.image, own, plan, shown, after)


def _opened_place(arguments: argparse.Namespace) -> tuple[Sectors, tuple[int, int]]:
    """The disk, its encrypted volume open where a key was given, and where the volume stands that is meant: the
    largest that a set or a group holds, else what was asked for."""
    disk = ImageSectors(arguments.image, sector=arguments.sector_size)
    others = [ImageSectors(other, sector=arguments.sector_size) for other in arguments.others]
    view = with_key(arguments, disk)
    if view is None:
        return volume_in(disk, arguments.at, arguments.partition, others)
    inside = view.inside
    found, place = volume_in(inside, None, None, others)
    return (view, view.place) if found is inside and place == (0, inside.length - 1) else (found, place)


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
