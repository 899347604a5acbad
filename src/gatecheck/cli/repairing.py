"""Plans that are written to an image: shown, applied with the undo file first, resumed, undone."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol, TypeVar

from gatecheck.adapters import image_writer
from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.adapters.shipped_tables import disk_words
from gatecheck.cli.disks import taken_back
from gatecheck.cli.locked import opened_with_key
from gatecheck.cli.output import print_json
from gatecheck.cli.places import volume_in
from gatecheck.core.disk.bootpath import BIOS, UEFI, boot_path
from gatecheck.core.disk.joined import JoinedSectors
from gatecheck.core.disk.mend import merged
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import InputError
from gatecheck.core.locked.model import Opened
from gatecheck.core.volume.assemble import RAID, assembled
from gatecheck.core.volume.repair_group import RepairGroup
from gatecheck.core.words.said import Said


class Planned(Protocol):
    @property
    def groups(self) -> tuple[RepairGroup, ...]: ...

    @property
    def refused(self) -> Said | None: ...


Plan = TypeVar("Plan", bound=Planned)


@dataclass(frozen=True, slots=True)
class RepairTarget:
    """What a repair sees, and where the volume is in it; `opened`: what a key opened; `joined`: the
    logical volume that it is; None where there is none."""

    seen: Sectors
    place: tuple[int, int]
    opened: Opened | None = None
    joined: JoinedSectors | None = None

    def to_disk(self, writes: Sequence[tuple[int, bytes]]) -> list[tuple[int, bytes]]:
        """As they stand on the disk: at their extents, encrypted where the volume is. Raises InputError where that is
        not safe."""
        own = list(writes) if self.joined is None else self.joined.to_disk(writes)
        return own if self.opened is None else self.opened.to_disk(own)


def repair_target(arguments: argparse.Namespace, image: str) -> RepairTarget:
    """Raises InputError for a volume whose bytes stand on several drives, or on one more than once."""
    disk = ImageSectors(image, sector=arguments.sector_size)
    if getattr(arguments, "others", None):
        raise InputError("--with: expected without --repair: a volume on several drives is read, not repaired")
    found = opened_with_key(arguments, disk)
    ground: Sectors = disk if found is None else found[1].inside
    asked = (arguments.at, arguments.partition) if found is None else (None, None)
    seen, place = volume_in(ground, *asked)
    opened = None if found is None else found[1]
    if seen is ground:
        return RepairTarget(seen, place, opened)
    if isinstance(seen, JoinedSectors) and seen.is_only_on(ground) and not _is_mirror(ground, seen):
        return RepairTarget(seen, place, opened, seen)
    raise InputError(f"{image}: expected a volume of this drive alone, got one of a set: it is read, not repaired")


def _is_mirror(ground: Sectors, seen: JoinedSectors) -> bool:
    """The other drives of its set would not know of what is written."""
    mirrors = [m.sectors for m in assembled([ground]) if m.kind == RAID and isinstance(m.sectors, JoinedSectors)]
    theirs = [part for own in mirrors for part in own.stretches]
    return any(p.at < t.at + t.size and t.at < p.at + p.size for p in seen.stretches for t in theirs)


def asked_repair(arguments: argparse.Namespace, image: str) -> int | None:
    """The status where --revert was asked for and done. Raises InputError for options that do not go together."""
    if arguments.revert:
        if arguments.repair or arguments.apply or arguments.undo:
            raise InputError("--revert: expected alone, got it with --repair, --apply or --undo")
        print_json(taken_back(image, arguments.revert))
        return 0
    if not arguments.repair and (arguments.apply or arguments.undo or arguments.only):
        raise InputError("--apply, --undo, --only: expected with --repair, got them without")
    if arguments.apply != (arguments.undo is not None):
        raise InputError("--apply and --undo FILE: expected both, got one")
    return None


def plans_shown(found: Planned) -> dict[str, object]:
    words = disk_words()
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
    return {"plans": plans, "refused": words.say(found.refused) or None}


def repaired(
    arguments: argparse.Namespace,
    image: str,
    own: RepairTarget,
    plan: Callable[[Sequence[str] | None], Plan],
    shown: Callable[[Plan], dict[str, object]],
    after: Callable[[], dict[str, object]],
) -> int:
    """The plan in words; with --apply it is written, and what is there afterwards is printed."""

    def told(applied: Sequence[str]) -> int:
        print_json({"applied": list(applied), **after(), "undo": str(arguments.undo)})
        return 0

    if arguments.apply and arguments.undo.exists():
        undo = image_writer.read_undo(arguments.undo)
        with image_writer.target(image) as target:
            if not image_writer.go_on(target, undo):
                raise InputError(
                    f"--undo {arguments.undo}: expected a name that is free, got the undo file of what is applied "
                    f"already; --revert undoes it"
                )
        return told(undo.plans)
    found = plan(arguments.only)
    if arguments.only:
        unknown = [name for name in arguments.only if name not in {g.id for g in found.groups}]
        if unknown:
            names = ", ".join(g.id for g in plan(None).groups) or "no group: there is nothing to repair"
            raise InputError(f"--only: expected some of {names}, got {unknown[0]!r}")
    if not arguments.apply:
        print_json(shown(found))
        return 0
    if not found.groups:
        raise InputError(
            f"--apply: expected something to repair on {image}, got {disk_words().say(found.refused) or 'no plan'}"
        )
    with image_writer.target(image) as target:
        now = plan(arguments.only)  # planned again now that nobody else writes to it
        before = _starts(image, arguments.sector_size)
        image_writer.apply(
            target,
            arguments.undo,
            [g.id for g in now.groups],
            own.to_disk(merged(own.seen, [pair for g in now.groups for pair in g.pairs])),
        )
        lost = before - _starts(image, arguments.sector_size)
        if lost:
            image_writer.revert(target, image_writer.read_undo(arguments.undo))
            raise InputError(
                f"--apply: expected the disk to start after it as it did before ({', '.join(sorted(lost))}), "
                f"got one that does not: everything was undone at once"
            )
    return told([g.id for g in now.groups])


def _starts(image: str, sector: int | None) -> set[str]:
    """The modes in which the image would start as it is."""
    disk = ImageSectors(image, sector=sector)
    return {mode for mode in (UEFI, BIOS) if boot_path(disk, mode).boots}
