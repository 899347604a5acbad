"""What macOS says of itself: its log whole and cut, what was installed, a kernel that stopped; what is not there."""

from __future__ import annotations

import bz2
import gzip
import plistlib
from collections.abc import Mapping
from datetime import UTC, datetime

import pytest

from gatecheck.adapters.shipped_tables import record_rules, shipped_words
from gatecheck.core.disk.sectors import CapturedSectors
from gatecheck.core.records.document import records_document
from gatecheck.core.records.evidence import records_say
from gatecheck.core.records.macos import macos_records
from gatecheck.core.records.read import read_records
from gatecheck.core.records.report import Records
from gatecheck.core.records.source import VolumeFiles
from gatecheck.core.volume.readers import open_volume
from gatecheck.practice.system_records import mac_records
from gatecheck.practice.volumes import album_volume

VERSION = "System/Library/CoreServices/SystemVersion.plist"
TOLD = {VERSION: plistlib.dumps({"ProductName": "macOS", "ProductVersion": "10.13.6", "ProductBuildVersion": "17G66"})}
ZONE = {"private/etc/localtime": mac_records()["private/etc/localtime"]}
LOG = "private/var/log/system.log"
DAY = 1_793_725_200  # 2026-11-03 17:00 UTC
RUN = [
    f"Nov  3 17:00:00 album bootlog[0]: BOOT_TIME {DAY} 0",
    "Nov  3 17:05:00 album albumd[88]: catalogue saved",
    "Nov  3 17:20:00 album kernel[0]: disk0s2: I/O error.",
    f"Nov  3 18:00:00 album shutdown[99]: SHUTDOWN_TIME: {DAY + 3600} 0",
]
PANIC = b'Tue Nov  3 17:30:00 2026\npanic(cpu 1 caller 0xffffff8006bd5a2f): "no memory left for the album"\n'


class Folder:
    """Files by path, as a record reader asks for them."""

    def __init__(self, files: Mapping[str, bytes], links: Mapping[str, str] | None = None) -> None:
        self.files, self.links = dict(files), dict(links or {})

    def head(self, path: str, count: int) -> bytes | None:
        return self.files[path][:count] if path in self.files else None

    def read(self, path: str) -> tuple[bytes, int] | None:
        return (self.files[path], 0) if path in self.files else None

    def names(self, folder: str) -> list[str]:
        return sorted(p.rpartition("/")[2] for p in self.files if p.rpartition("/")[0] == folder)

    def link(self, path: str) -> str:
        return self.links.get(path, "")


def read(files: Mapping[str, bytes], **links: str) -> Records:
    found = macos_records(Folder({**TOLD, **files}, links), record_rules())
    assert found is not None
    return found


def log(*lines: str) -> bytes:
    return "".join(f"{line}\n" for line in lines).encode()


def test_a_run_with_its_end_is_told() -> None:
    own = read({**ZONE, LOG: log(*RUN)})
    assert own.mac is not None
    assert (own.mac.name, own.mac.version, own.mac.build) == ("macOS", "10.13.6", "17G66")
    assert (own.last_good_start, own.last_shutdown, own.clean) == (DAY, DAY + 3600, True)
    assert [(e.kind, e.at) for e in own.events] == [("start", DAY), ("disk-error", DAY + 1200), ("stop", DAY + 3600)]
    assert [(log.path, log.records) for log in own.logs] == [(LOG, 4)]
    assert own.sentence.id == "records.said-started"


CASES = {
    "cut short": ({LOG: log(*RUN[:3])}, False, DAY, ["not-clean"]),
    "rotated": ({f"{LOG}.0.gz": gzip.compress(log(*RUN)), LOG: log(RUN[1])}, True, DAY, []),
    "rotated by bzip2": ({f"{LOG}.1.bz2": bz2.compress(log(*RUN))}, True, DAY, []),
    "a pack that is torn": ({f"{LOG}.0.gz": gzip.compress(log(*RUN))[:9], LOG: log(*RUN)}, True, DAY, []),
    "a kernel that stopped": (
        {LOG: log(*RUN), "Library/Logs/DiagnosticReports/Kernel_2026-11-03-173000_album.panic": PANIC},
        True,
        DAY,
        ["crashes"],
    ),
    "a program that stopped": (
        {LOG: log(*RUN), "Library/Logs/DiagnosticReports/Album_2026-11-03-173000_album.ips": b"{}"},
        True,
        DAY,
        [],
    ),
}


@pytest.mark.parametrize(("files", "clean", "good", "ids"), CASES.values(), ids=CASES)
def test_what_its_files_tell(files: dict[str, bytes], clean: bool, good: int, ids: list[str]) -> None:
    own = read({**ZONE, **files})
    assert (own.clean, own.last_good_start) == (clean, good)
    assert sorted({f.id for f in own.findings} - {"disk-errors"}) == ids


def test_without_a_zone_only_exact_times_are_told() -> None:
    own = read({LOG: log(*RUN)})
    assert [e.kind for e in own.events] == ["start", "stop"]
    assert own.last_good_start == DAY, "the end of the run is a moment of it"


def test_what_is_not_there_says_nothing() -> None:
    assert macos_records(Folder({}), record_rules()) is None
    assert macos_records(Folder({VERSION: b"<plist><dict>"}), record_rules()) is None
    own = read({})
    assert (own.last_good_start, own.clean, own.findings, own.sentence.id) == (None, None, [], "records.said-nothing")
    assert records_say([own]) is None


@pytest.mark.parametrize(
    "raw", [b"", b"none", plistlib.dumps({}), plistlib.dumps([1, {"date": "x"}, {"displayName": 3}])]
)
def test_a_history_that_is_none_is_left_out(raw: bytes) -> None:
    assert read({"Library/Receipts/InstallHistory.plist": raw}).updates == []


def test_what_was_installed_before_it_stopped_starting_is_named() -> None:
    when = datetime.fromtimestamp(DAY + 2400, UTC).replace(tzinfo=None)
    rows = [{"date": when, "displayName": "Storage Driver", "displayVersion": "4.1"}]
    later = [f"Nov  4 08:00:00 album bootlog[0]: BOOT_TIME {DAY + 54_000} 0"]
    files = {LOG: log(*RUN, *later), "Library/Receipts/InstallHistory.plist": plistlib.dumps(rows)}
    own = read({**ZONE, **files})
    assert [(u.at, u.name) for u in own.updates] == [(DAY + 2400, "Storage Driver 4.1")]
    assert own.sentence.id == "records.said-update"


def test_the_album_tells_of_weeks_of_disk_errors() -> None:
    sectors = 400_000
    disk = CapturedSectors(album_volume(sectors, "Solveig", pictures=3), length=sectors)
    volume = open_volume(disk, 0, sectors - 1)
    assert volume is not None
    found = read_records(VolumeFiles(volume), record_rules())
    told = records_document(found, [], shipped_words().say)
    assert told["systems"][0]["kind"] == "macos"  # type: ignore[index]
    weights = records_say(found)
    assert weights is not None
    assert max(weights["weights"], key=weights["weights"].get) == "disk-errors"
