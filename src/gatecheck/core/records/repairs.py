"""What records make possible to repair: values in the registry of an installed Windows, each by a plan of bytes.

Nothing that guesses: a driver is only set to start where the machine has its controller, its file is there, and no
other driver serves that controller. A hive is written as the system's own loader leaves it after it has applied the
logs: their pages in place, both sequence numbers alike and raised, the base block's checksum right, so that the logs
count no more.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.records.hive import Hive, HiveKey, settled
from gatecheck.core.records.rules import RecordRules
from gatecheck.core.records.source import VolumeFiles
from gatecheck.core.records.windows import CONFIG, Driver, WindowsSystem, drivers_of, roots, system_of
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.ntfs.read import Ntfs
from gatecheck.core.volume.repair_group import RepairGroup, group
from gatecheck.core.volume.tree import DAMAGE, WHOLE
from gatecheck.core.words.said import Said, say

_NOT_WRITTEN = ("hibernated", "locked", "journal-pending")
_PAGE = 512
_BOOT = struct.pack("<I", 0)
_AT_START = "autocheck autochk"
"""what a boot-time check begins with; alone with a star it only looks whether a volume asks for one"""
_ALWAYS = f"{_AT_START} *"

Edits = list[tuple[int, bytes]]
"""(place in the bins, bytes)"""


@dataclass(frozen=True, slots=True)
class RecordsRepair:
    """`groups`: what would be written, in order; `refused`: why nothing is planned."""

    groups: tuple[RepairGroup, ...]
    refused: Said | None = None


@dataclass(frozen=True, slots=True)
class _Ground:
    """A hive in its file, and what was read from it; `modes`: of the machine's controllers."""

    volume: Ntfs
    files: VolumeFiles
    rules: RecordRules
    path: str
    raw: bytes
    hive: Hive
    system: WindowsSystem
    modes: tuple[str, ...]

    def may_start(self, drivers: Iterable[Driver]) -> bool:
        """Does one of these start with the boot that serves the machine's storage, or may: one that no table knows,
        or where the machine's controllers are not known."""
        ready = {d.serves for d in drivers if d.starts_with_boot and d.present is not False}
        return not self.modes or None in ready or bool(ready & set(self.modes))

    @property
    def control(self) -> HiveKey | None:
        return self.hive.root.key(f"ControlSet{self.system.control_set or 1:03d}")


def records_repair(
    disk: Sectors,
    first: int,
    last: int,
    rules: RecordRules,
    controllers: Sequence[str] = (),
    *,
    only: Iterable[str] | None = None,
) -> RecordsRepair:
    """Plans for the one Windows of a volume. `controllers`: PCI classes of the machine that it is to start on; `only`:
    ids of the groups that are wanted. Never raises for what is on the volume."""
    modes = tuple(dict.fromkeys(mode for c in controllers if (mode := rules.mode_of(c))))
    wanted = None if only is None else set(only)
    groups: list[RepairGroup] = []
    writes: list[tuple[int, bytes]] = []
    ground = _ground(disk, first, last, rules, modes)
    for planner in _PLANNERS:
        if isinstance(ground, Said):
            return RecordsRepair((), say("repair.records-refused-itself") if groups else ground)
        try:
            made = planner(ground, wanted or set())
        except DecodeError:
            made = None
        if made is not None and (wanted is None or made.id in wanted):
            groups.append(made)
            writes += made.pairs
            ground = _ground(Overlay(disk, writes), first, last, rules, modes)
    if isinstance(ground, Said):
        return RecordsRepair((), say("repair.records-refused-itself") if groups else ground)
    for found in check(disk, first, last).findings if groups else ():
        if found.id in _NOT_WRITTEN:
            return RecordsRepair((), say("repair.records-refused", why=found.text))
        if found.severity == DAMAGE:
            return RecordsRepair((), say("repair.records-refused-damaged", what=found.text))
    return RecordsRepair(tuple(groups))


def _ground(disk: Sectors, first: int, last: int, rules: RecordRules, modes: tuple[str, ...]) -> _Ground | Said:
    volume = opened(disk, first, last).volume
    if not isinstance(volume, Ntfs):
        return say("repair.records-refused-kind")
    files = VolumeFiles(volume)
    found = roots(files)
    if len(found) != 1:
        return say("repair.records-refused-systems", count=len(found))
    path = f"{found[0]}/{CONFIG}/SYSTEM".lstrip("/")
    own = files.read(path)
    if own is None:
        return say("repair.records-refused-kind")
    raw, lost = own
    beside = [files.read(f"{path}.{end}") for end in ("LOG1", "LOG2", "LOG")]
    try:
        hive = Hive(raw, [log[0] for log in beside if log is not None])
        system = system_of(hive, files, found[0], rules)
    except DecodeError as error:
        return say("repair.records-refused-torn", what=str(error))
    if hive.dirty and not hive.applied:
        return say("repair.records-refused-logs")
    if lost or hive.torn or any(log is not None and log[1] for log in beside):
        return say("repair.records-refused-torn", what=hive.torn[0] if hive.torn else f"{lost} bytes")
    return _Ground(volume, files, rules, path, raw, hive, system, modes)


def _start_driver(ground: _Ground, wanted: set[str]) -> RepairGroup | None:
    """Drivers of the machine's controllers that are there and do not start with the boot."""
    del wanted
    drivers, control = ground.system.drivers, ground.control
    services = control.key("Services") if control else None
    if services is None or ground.may_start(drivers):
        return None
    edits: Edits = []
    names = []
    for mode in ground.modes:
        for driver in drivers:
            key = services.key(driver.name)
            if driver.serves != mode or driver.present is not True or key is None:
                continue
            own = _boot_start(key)
            if own:
                edits += own
                names.append(driver.name)
    if not names:
        return None
    return _group(
        ground, "start-driver", edits, names=", ".join(names), modes=", ".join(m.upper() for m in ground.modes)
    )


def _boot_start(service: HiveKey) -> Edits:
    """Its start type, and a start override where there is one, set to start with the boot."""
    override = service.key("StartOverride")
    places = [service.number_at("Start"), override.number_at("0") if override else None]
    if places[0] is None or (override is not None and override.number("0") is not None and places[1] is None):
        return []
    return [(at, _BOOT) for at in places if at is not None]


def _last_good(ground: _Ground, wanted: set[str]) -> RepairGroup | None:
    """The control set of the last start that worked, where the one in use has no driver for the machine, is gone, or
    has failed. Nothing where setting the driver to start is enough, unless it is asked for by its name."""
    select = ground.hive.root.key("Select")
    current, good = ground.system.control_set, select.number("LastKnownGood") if select else None
    if select is None or not good or good == current or good == ground.system.failed_set:
        return None
    other = ground.hive.root.key(f"ControlSet{good:03d}")
    services = other.key("Services") if other is not None and other.key("Control") is not None else None
    if services is None:
        return None
    root = ground.path[: -len(f"{CONFIG}/SYSTEM")].rstrip("/")
    if not ground.may_start(drivers_of(services, ground.files, root, ground.rules)):
        return None  # it would stop at the same place
    failed = ground.control is None or ground.system.failed_set == current
    if not failed and ground.may_start(ground.system.drivers) and "last-good-set" not in wanted:
        return None
    places = [select.number_at("Current"), select.number_at("Default")]
    if places[0] is None or places[1] is None:
        return None
    edits = [(at, struct.pack("<I", good)) for at in places if at is not None]
    return _group(ground, "last-good-set", edits, doubts=("since-then",), number=good)


def _boot_check(ground: _Ground, wanted: set[str]) -> RepairGroup | None:
    """A check that is ordered for every start; the volume itself was found without damage."""
    del wanted
    session = ground.control.key("Control\\Session Manager") if ground.control else None
    own = session.value("BootExecute") if session else None
    if session is None or own is None:
        return None
    ordered = [text for text in own.texts if text.lower().startswith(_AT_START) and text.lower() != _ALWAYS]
    if not ordered:
        return None
    kept = [text for text in own.texts if text not in ordered]
    if not any(text.lower() == _ALWAYS for text in kept):
        kept = [_ALWAYS, *kept]
    edits = session.shorter("BootExecute", ("\0".join([*kept, ""]) + "\0").encode("utf-16-le"))
    return _group(ground, "boot-check", edits, count=len(ordered)) if edits else None


GROUPS = ("start-driver", "last-good-set", "boot-check")
_PLANNERS: tuple[Callable[[_Ground, set[str]], RepairGroup | None], ...] = (_start_driver, _last_good, _boot_check)


def _group(
    ground: _Ground, name: str, edits: Edits, *, doubts: tuple[str, ...] = (), **values: object
) -> RepairGroup | None:
    """None where the hive's file cannot be written in place."""
    try:
        new = settled(ground.raw, ground.hive, edits)
    except DecodeError:
        return None
    writes = _in_place(ground, new)
    if writes is None:
        return None
    return group(name, writes, "hive", doubts=doubts, touches=(ground.path,), **values)


def _in_place(ground: _Ground, new: bytes) -> list[tuple[int, bytes]] | None:
    """The pages in which a file of the same length is to change, by their places on the disk; None where it is not held
    in clusters of its own, plain and whole."""
    volume = ground.volume
    node = volume.find(ground.path)
    if node is None or node.opaque or len(new) != len(ground.raw):
        return None
    data = volume.data_of(node)
    if data is None or data.resident or data.flags or volume.shape(node) != WHOLE:
        return None
    stretches, at = [], 0
    for run in volume.runs(node):
        if run.at is None:
            return None
        stretches.append((at, run.at, run.length))
        at += run.length
    writes = []
    for page in range(0, len(new), _PAGE):
        piece = new[page : page + _PAGE]
        if piece == ground.raw[page : page + _PAGE]:
            continue
        place = next((p + page - start for start, p, length in stretches if start <= page < start + length), None)
        if place is None or page + len(piece) > data.sizes[2]:  # past what the file says to hold
            return None
        writes.append((place, piece))
    return writes
