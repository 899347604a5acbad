"""What an installed system says of itself."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path

from gatecheck.adapters.capture_files import read_path
from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.adapters.folder_files import FolderFiles
from gatecheck.adapters.shipped_tables import disk_words, record_rules, shipped_model
from gatecheck.cli.locked import with_key
from gatecheck.cli.output import print_json
from gatecheck.cli.places import pieces_of, volume_in
from gatecheck.cli.repairing import asked_repair, plans_shown, repair_target, repaired
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.volume_ids import volume_ids
from gatecheck.core.errors import InputError
from gatecheck.core.records.document import records_document
from gatecheck.core.records.evidence import records_say
from gatecheck.core.records.read import read_records
from gatecheck.core.records.repairs import RecordsRepair, records_repair
from gatecheck.core.records.report import Records
from gatecheck.core.records.source import Files, VolumeFiles
from gatecheck.core.volume.assemble import assembled
from gatecheck.core.volume.check import opened
from gatecheck.core.words.catalogue import Words


def records(arguments: argparse.Namespace) -> int:
    if (arguments.repair or arguments.revert) and Path(arguments.path).is_dir():
        raise InputError("--repair, --revert: expected with an image, got a folder")
    asked = asked_repair(arguments, arguments.path)
    if asked is not None:
        return asked
    controllers = _controllers(arguments.capture) if arguments.capture else []
    if arguments.repair:
        return _repair(arguments, controllers)
    sources, rules = _sources(arguments), record_rules()
    there = _volumes(arguments)
    found = [own for files in sources for own in read_records(files, rules, controllers, there)]
    words = disk_words()
    if arguments.as_entry:
        print_json(_entry(found, words))
        return 0
    problems = [files.problem for files in sources if isinstance(files, VolumeFiles) and files.problem]
    print_json(records_document(found, problems, words.say))
    return 0


def _repair(arguments: argparse.Namespace, controllers: Sequence[str]) -> int:
    arguments.image = arguments.path
    own, rules = repair_target(arguments, arguments.path), record_rules()

    def plan(only: Sequence[str] | None) -> RecordsRepair:
        return records_repair(own.seen, *own.place, rules, controllers, only=only)

    def after() -> dict[str, object]:
        return {"left": [g.id for g in plan(None).groups]}

    return repaired(arguments, arguments.path, own, plan, plans_shown, after)


def _entry(found: Sequence[Records], words: Words) -> dict[str, object] | None:
    """An entry of the tape: what the records say to the check `system-records`."""
    said = records_say(found)
    return said and {"move": said["move"], "weights": said["weights"], "note": words.say(said["note"])}


def _controllers(capture: str) -> list[str]:
    """PCI classes of the machine that the capture is of. Raises InputError where it does not tell."""
    from gatecheck.core.capture.read import read_capture

    pci = read_capture(read_path(capture), shipped_model().knowledge.findings).pci
    if pci is None:
        raise InputError(f"{capture}: expected a capture with the machine's PCI devices, got none in it")
    return [device.kind for device in pci.devices]


def _volumes(arguments: argparse.Namespace) -> tuple[tuple[str, ...], bool] | None:
    """The names of all volumes of a whole disk, for what its systems look for at the start."""
    if Path(arguments.path).is_dir() or arguments.at is not None or arguments.key_file is not None:
        return None
    disk = ImageSectors(arguments.path, sector=arguments.sector_size)
    own = volume_ids(disk)
    return (own.names, own.is_closed) if pieces_of(disk) else None


def _sources(arguments: argparse.Namespace) -> list[Files]:
    if Path(arguments.path).is_dir():
        if arguments.at is not None or arguments.partition is not None or arguments.key_file is not None:
            raise InputError("--at, --partition, --key-file: expected with an image, got a folder")
        return [FolderFiles(Path(arguments.path))]
    arguments.image = arguments.path
    disk: Sectors = ImageSectors(arguments.path, sector=arguments.sector_size)
    others = [ImageSectors(other, sector=arguments.sector_size) for other in arguments.others]
    view = with_key(arguments, disk)
    places: list[tuple[Sectors, tuple[int, int]]]
    if view is not None:
        places = [volume_in(view.inside, None, None)]
    elif arguments.at is not None or arguments.partition is not None:
        places = [volume_in(disk, arguments.at, arguments.partition, others)]
    else:
        length = disk.length or 0
        pieces = [p for p in pieces_of(disk) if p.first < length]
        places = [(disk, (p.first, min(p.last, length - 1))) for p in pieces] or [(disk, (0, length - 1))]
        sets = assembled((disk, *others))
        places += [(own.sectors, (0, (own.sectors.length or 1) - 1)) for own in sets if own.sectors is not None]
    volumes = [own.volume for own in (opened(where, *place) for where, place in places) if own.volume is not None]
    if not volumes:
        raise InputError(f"{arguments.path}: expected a volume that can be read, got none")
    return [VolumeFiles(volume) for volume in volumes]
