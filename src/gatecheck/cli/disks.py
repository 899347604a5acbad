"""Boot path, mending, and what lives where, of a disk image."""

from __future__ import annotations

import argparse
from pathlib import Path

from gatecheck.adapters import image_writer
from gatecheck.adapters.capture_files import read_path
from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.adapters.shipped_tables import disk_words, shipped_model
from gatecheck.cli.locked import with_key
from gatecheck.cli.output import print_json
from gatecheck.core.disk.bootpath import boot_path
from gatecheck.core.disk.mend import all_plans, chosen, mending_of, merged
from gatecheck.core.disk.where import places_of
from gatecheck.core.errors import InputError


def bootpath(arguments: argparse.Namespace) -> int:
    entries, secure = None, False
    if arguments.capture:
        from gatecheck.core.capture.path import known_entries
        from gatecheck.core.capture.read import read_capture

        firmware = read_capture(read_path(arguments.capture), shipped_model().knowledge.findings).firmware
        if firmware is None:
            raise InputError(f"{arguments.capture}: expected a capture with the firmware's variables, got none in it")
        secure = bool(firmware.secure_boot)
        entries = known_entries(firmware)
    disk = ImageSectors(arguments.image, sector=arguments.sector_size)
    found = boot_path(with_key(arguments, disk) or disk, arguments.mode, entries=entries, secure=secure)
    words = disk_words()
    findings = [{"id": f.id, "gate": f.gate, "where": f.where, "text": words.say(f.text)} for f in found.findings]
    print_json(
        {
            "boots": found.boots,
            "stops_at": found.stops_at,
            "path": [words.say(step) for step in found.path],
            "findings": findings,
        }
    )
    return 0


def mend(arguments: argparse.Namespace) -> int:
    if arguments.revert:
        if arguments.apply or arguments.undo:
            raise InputError("--revert: expected alone, got it with --apply or --undo")
        print_json(taken_back(arguments.image, arguments.revert))
        return 0
    if arguments.mode is None:
        raise InputError("--mode: expected uefi or bios, got nothing")
    if (arguments.apply is None) != (arguments.undo is None):
        raise InputError("--apply ID and --undo FILE: expected both, got one")
    disk, words = ImageSectors(arguments.image, sector=arguments.sector_size), disk_words()
    if arguments.apply is None:
        found = mending_of(disk, arguments.mode)
        plans = [
            {
                "id": p.id,
                "what": words.say(p.what),
                "why": words.say(p.why),
                "doubts": [words.say(d) for d in p.doubts],
                "writes": [{"at": w.at, "length": len(w.data), "field": words.say(w.field)} for w in p.writes],
                "boots_after": p.boots_after,
            }
            for p in found.plans
        ]
        print_json({"boots": found.now.boots, "plans": plans})
        return 0
    with image_writer.target(arguments.image) as own:
        if arguments.undo.exists():
            undo = image_writer.read_undo(arguments.undo)
            if arguments.apply != "all" and undo.plans != (arguments.apply,):
                raise InputError(
                    f"--undo {arguments.undo}: expected a name that is free, or the undo file of "
                    f"{arguments.apply}, "
                    f"got that of {', '.join(undo.plans)}"
                )
            if not image_writer.go_on(own, undo):
                raise InputError(
                    f"--undo {arguments.undo}: expected a name that is free, got the undo file of what is applied "
                    f"already; --revert undoes it"
                )
            applied = list(undo.plans)
        else:
            if arguments.apply == "all":
                done, writes = all_plans(disk, arguments.mode)
            else:
                plans_now = mending_of(disk, arguments.mode).plans
                one = chosen(plans_now, arguments.apply)
                if one is None:
                    raise InputError(
                        f"--apply: expected all or one of "
                        f"{', '.join(p.id for p in plans_now) or 'no plans: nothing to repair'}, got "
                        f"{arguments.apply!r}"
                    )
                done, writes = [one], one.pairs
            before = boot_path(disk, arguments.mode)
            if not done:
                why = (
                    "a disk that starts as it is: a plan is applied to it by its id only" if before.boots else "no plan"
                )
                raise InputError(f"--apply all: expected something to repair on {arguments.image}, got {why}")
            applied = [p.id for p in done]
            image_writer.apply(own, arguments.undo, applied, merged(disk, writes))
            after = boot_path(ImageSectors(arguments.image, sector=disk.sector), arguments.mode)
            if before.boots and not after.boots:
                image_writer.revert(own, image_writer.read_undo(arguments.undo))
                raise InputError(
                    f"--apply {arguments.apply}: expected the disk to start as before, got one that does not: "
                    f"everything was undone at once"
                )
        after = boot_path(ImageSectors(arguments.image, sector=disk.sector), arguments.mode)
    print_json({"applied": applied, "boots": after.boots, "undo": str(arguments.undo)})
    return 0


def taken_back(image: str, undo_file: Path) -> dict[str, object]:
    """What `--revert` says. Raises InputError."""
    undo = image_writer.read_undo(undo_file)
    with image_writer.target(image) as own:
        done = image_writer.revert(own, undo)
    if not done:
        return {"reverted": [], "bytes": 0, "says": "nothing is left to do: every byte is as it was before"}
    return {"reverted": list(undo.plans), "bytes": done}


def where(arguments: argparse.Namespace) -> int:
    disk, words = ImageSectors(arguments.image, sector=arguments.sector_size), disk_words()
    if not all(0 <= lba < (disk.length or 0) for lba in arguments.lbas):
        wrong = next(lba for lba in arguments.lbas if not 0 <= lba < (disk.length or 0))
        raise InputError(f"LBA: expected 0 to {(disk.length or 1) - 1}, got {wrong}")
    view = with_key(arguments, disk)
    asked = [(lba, view.seen_at(lba) if view else lba) for lba in arguments.lbas]
    seen = iter(places_of(view or disk, [lba for _, lba in asked if lba is not None]))
    own = iter(places_of(disk, [lba for lba, there in asked if there is None]))
    print_json(
        [
            {
                "lba": lba,
                "partition": p.partition,
                "structure": words.say(p.structure),
                "path": p.path,
                "stakes": p.stakes,
            }
            for (lba, there) in asked
            for p in (next(own if there is None else seen),)
        ]
    )
    return 0
