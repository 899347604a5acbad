"""What records make possible to repair: the registry as its loader would read it afterwards, and nothing that
guesses."""

from __future__ import annotations

import shutil
import struct
import subprocess
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest

from gatecheck.adapters.shipped_tables import record_rules
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.records.encode_hive import base_block, differences, hive, new_log, old_log
from gatecheck.core.records.hive import BASE, Hive, base_sum
from gatecheck.core.records.repairs import RecordsRepair, records_repair
from gatecheck.core.records.source import VolumeFiles
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.ntfs.encode import ntfs_volume
from memory_disk import Memory

SECTORS = 40_000
RAID, AHCI, NVME = "010400", "010601", "010802"
CONFIG = "Windows/System32/config/SYSTEM"


def services(**drivers: Mapping[str, Any]) -> dict[str, Any]:
    return {name: {"Type": 1, "Group": "SCSI Miniport", "ErrorControl": 3, **own} for name, own in drivers.items()}


def tree(own: Mapping[str, Any], *, select: Mapping[str, int] | None = None, **sets: Any) -> dict[str, Any]:
    return {
        "Select": {"Current": 1, "Default": 1, "Failed": 0, "LastKnownGood": 1, **(select or {})},
        "ControlSet001": {
            "Control": {"Session Manager": {"BootExecute": ["autocheck autochk *"]}},
            "Services": own,
        },
        **sets,
    }


def disk(
    system: bytes, logs: Mapping[str, bytes] | None = None, *, drivers: tuple[str, ...] = ("storahci", "stornvme"),
    dirty: bool = False, more: Mapping[str, bytes] | None = None,
) -> Memory:  # fmt: skip
    files = {
        CONFIG: system,
        **{f"{CONFIG}.{end}": raw for end, raw in (logs or {}).items()},
        **{f"Windows/System32/drivers/{name}.sys": b"MZ" + bytes(4000) for name in drivers},
        **(more or {}),
    }
    whole = bytearray(SECTORS * 512)
    for at, data in ntfs_volume(files, sectors=SECTORS, dirty=dirty, pieces=3).items():
        whole[at * 512 : at * 512 + len(data)] = data
    return Memory(bytes(whole))


def planned(own: Memory, *controllers: str, only: tuple[str, ...] | None = None) -> RecordsRepair:
    return records_repair(own, 0, SECTORS - 1, record_rules(), controllers, only=only)


def after(own: Memory, found: RecordsRepair) -> bytes:
    """The hive's file afterwards; the volume is as whole as before, and no other file is another."""
    over = Overlay(own, [pair for g in found.groups for pair in g.pairs])
    assert check(over, 0, SECTORS - 1).findings == check(own, 0, SECTORS - 1).findings
    raw = {}
    for seen in (own, over):
        volume = opened(seen, 0, SECTORS - 1).volume
        assert volume is not None
        files = VolumeFiles(volume)
        raw[seen is over] = {n.path: files.read(n.path) for n in volume.nodes() if not n.is_folder}
    assert {path for path in raw[True] if raw[True][path] != raw[False][path]} <= {CONFIG}
    told = raw[True][CONFIG]
    assert told is not None
    head = told[0][:BASE]
    assert struct.unpack_from("<I", head, 508)[0] == base_sum(head)
    first, second = struct.unpack_from("<2I", head, 4)
    assert first == second
    return told[0]


def number(raw: bytes, path: str, name: str) -> int | None:
    key = Hive(raw).root.key(path)
    return key.number(name) if key else None


OFF = services(storahci={"Start": 0}, stornvme={"Start": 3})
OVERRIDDEN = services(storahci={"Start": 0, "StartOverride": {"0": 3}})


@pytest.mark.parametrize(
    ("own", "controllers", "changed"),
    [
        (OFF, (NVME,), {"stornvme": 0}),
        (services(storahci={"Start": 3}, stornvme={"Start": 4}), (AHCI, NVME), {"storahci": 0, "stornvme": 0}),
        (OVERRIDDEN, (AHCI,), {"storahci\\StartOverride": 0}),
        (services(stornvme={"Start": 3, "StartOverride": {"0": 3}}), (NVME,), {"stornvme": 0}),
        (OFF, (AHCI,), {}),  # it starts already
        (OFF, (AHCI, NVME), {}),  # the disk may be at the controller whose driver starts
        (OFF, (RAID,), {}),  # no driver of it is there
        (OFF, (), {}),  # the machine's controllers are not known
        (services(storahci={"Start": 0}, oddone={"Start": 0}, stornvme={"Start": 3}), (NVME,), {}),  # may serve it
        (services(stornvme={"Start": 3, "StartOverride": {"0": b"\1\0\0\0"}}), (NVME,), {"stornvme": 0}),
    ],
    ids=[
        "not set to start", "two of them", "overridden", "both", "starts", "another starts", "not there",
        "controllers unknown", "unknown driver", "an override that is no number",
    ],
)  # fmt: skip
def test_a_driver_is_set_to_start_where_the_machine_needs_it(
    own: dict[str, Any], controllers: tuple[str, ...], changed: dict[str, int]
) -> None:
    image = disk(hive(tree(own)), drivers=("storahci", "stornvme", "oddone"))
    found = planned(image, *controllers)
    assert [g.id for g in found.groups] == (["start-driver"] if changed else [])
    assert found.refused is None
    if changed:
        raw = after(image, found)
        for name, wanted in changed.items():
            at = "0" if name.endswith("StartOverride") else "Start"
            assert number(raw, f"ControlSet001\\Services\\{name}", at) == wanted
        assert planned(Memory(_whole(image, found)), *controllers).groups == ()


def _whole(image: Memory, found: RecordsRepair) -> bytes:
    over = Overlay(image, [pair for g in found.groups for pair in g.pairs])
    return bytes(over.read(0, SECTORS).data)


def test_a_volume_that_was_not_unmounted_is_no_hindrance() -> None:
    image = disk(hive(tree(OFF)), dirty=True)
    assert number(after(image, planned(image, NVME)), "ControlSet001\\Services\\stornvme", "Start") == 0


def test_a_driver_without_its_file_is_not_started() -> None:
    assert planned(disk(hive(tree(OFF)), drivers=("storahci",)), NVME).groups == ()


WITHOUT = services(storahci={"Start": 0})
"""the driver that the machine needs is no service of it"""
BOTH = ("storahci", "stornvme")


def good(own: Mapping[str, Any]) -> dict[str, Any]:
    return {"ControlSet002": {"Control": {"a": 1}, "Services": own}}


GOOD = good(services(stornvme={"Start": 0}))


@pytest.mark.parametrize(
    ("own", "select", "sets", "drivers", "groups"),
    [
        (WITHOUT, {"LastKnownGood": 2}, GOOD, BOTH, ["last-good-set"]),
        (WITHOUT, {"LastKnownGood": 2, "Current": 3}, GOOD, BOTH, ["last-good-set"]),  # 3 is gone
        (services(stornvme={"Start": 0}), {"LastKnownGood": 2, "Failed": 1}, GOOD, BOTH, ["last-good-set"]),
        (WITHOUT, {"LastKnownGood": 2, "Failed": 2}, GOOD, BOTH, []),
        (WITHOUT, {"LastKnownGood": 2}, {}, BOTH, []),
        (WITHOUT, {"LastKnownGood": 1}, GOOD, BOTH, []),
        (WITHOUT, {"LastKnownGood": 2}, GOOD, ("storahci",), []),  # its driver has no file
        (WITHOUT, {"LastKnownGood": 2}, good(WITHOUT), BOTH, []),
        (services(stornvme={"Start": 0}), {"LastKnownGood": 2}, GOOD, BOTH, []),
        (OFF, {"LastKnownGood": 2}, GOOD, BOTH, ["start-driver"]),
    ],
    ids=[
        "no driver", "gone", "failed", "itself failed", "not there", "the same", "no file", "no driver there either",
        "nothing missing", "a driver is enough",
    ],
)  # fmt: skip
def test_the_last_good_control_set(
    own: dict[str, Any], select: dict[str, int], sets: dict[str, Any], drivers: tuple[str, ...], groups: list[str]
) -> None:
    image = disk(hive(tree(own, select=select, **sets)), drivers=drivers)
    found = planned(image, NVME)
    assert [g.id for g in found.groups] == groups
    if groups == ["last-good-set"]:
        raw = after(image, found)
        assert (number(raw, "Select", "Current"), number(raw, "Select", "Default")) == (2, 2)
        assert [d.id for d in found.groups[0].doubts] == ["repair.doubt-since-then"]


@pytest.mark.parametrize(
    ("texts", "left"),
    [
        (["autocheck autochk /r \\??\\C:", "autocheck autochk *"], ["autocheck autochk *"]),
        (["autocheck autochk /p \\??\\C:", "something else"], ["autocheck autochk *", "something else"]),
        (["autocheck autochk *"], None),
        (["autocheck autochk /k:C *"], ["autocheck autochk *"]),
    ],
)
def test_a_check_ordered_for_every_start_is_removed(texts: list[str], left: list[str] | None) -> None:
    own = tree(OFF)
    own["ControlSet001"]["Control"]["Session Manager"]["BootExecute"] = texts
    image = disk(hive(own))
    found = planned(image, AHCI)
    assert [g.id for g in found.groups] == (["boot-check"] if left else [])
    if left:
        key = Hive(after(image, found)).root.key("ControlSet001\\Control\\Session Manager")
        value = key.value("BootExecute") if key else None
        assert value is not None
        assert value.texts == left


def dirtied(old: bytes) -> bytes:
    return base_block(int.from_bytes(old[36:40], "little"), len(old) - BASE, 9, 8) + old[BASE:]


@pytest.mark.parametrize("kind", ["new", "old"])
def test_what_the_logs_still_hold_is_written_too(kind: str) -> None:
    """A machine that does not start has seldom closed its registry."""
    old, new = hive(tree(OFF)), hive(tree(OFF, select={"Failed": 7}))
    pages, size = differences(old, new), len(old) - BASE
    log = new_log(old, [(9, size, pages)], 9) if kind == "new" else old_log(old, size, pages)
    image = disk(dirtied(old), {"LOG1" if kind == "new" else "LOG": log})
    raw = after(image, planned(image, NVME))
    assert not Hive(raw).dirty
    assert struct.unpack_from("<I", raw, 4)[0] > 9 - (kind == "old")
    assert number(raw, "Select", "Failed") == 7
    assert number(raw, "ControlSet001\\Services\\stornvme", "Start") == 0


def damaged(image: Memory) -> Memory:
    """A file's record that is torn."""
    raw = bytearray(image.read(0, SECTORS).data)
    at = raw.index(b"FILE", raw.index("notes.txt".encode("utf-16-le")) - 1000)
    raw[at + 510] ^= 0xFF
    return Memory(bytes(raw))


def test_what_is_not_safe_is_refused_in_words() -> None:
    own = hive(tree(OFF))
    two = {f"Windows.old/{CONFIG}": own}
    cases = {
        "repair.records-refused-logs": disk(dirtied(own)),
        "repair.records-refused-torn": disk(own[: BASE + 32] + bytes(len(own) - BASE - 32)),
        "repair.records-refused": disk(own, more={"hiberfil.sys": b"HIBR" + bytes(8000)}),
        "repair.records-refused-systems": disk(own, more=two),
        "repair.records-refused-damaged": damaged(disk(own, more={"Users/Torben/notes.txt": b"hello"})),
        "repair.records-refused-kind": Memory(bytes(SECTORS * 512)),
    }
    for wanted, image in cases.items():
        found = planned(image, NVME)
        assert found.groups == ()
        assert found.refused is not None
        assert found.refused.id == wanted


@pytest.mark.skipif(shutil.which("hivexget") is None, reason="hivex is not here")
def test_another_reader_takes_the_hive(tmp_path: Path) -> None:
    image = disk(hive(tree(OFF)))
    path = tmp_path / "SYSTEM"
    path.write_bytes(after(image, planned(image, NVME)))
    told = subprocess.run(
        ["hivexget", path, "\\ControlSet001\\Services\\stornvme", "Start"], capture_output=True, text=True, check=True
    )
    assert told.stdout.strip() in ("0", "0x0", "dword:00000000")
