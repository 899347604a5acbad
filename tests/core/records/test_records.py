"""System records: read as they were written, held against other readers where they are here, and torn without harm."""

from __future__ import annotations

import contextlib
import random
import struct
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest

from gatecheck.adapters.folder_files import FolderFiles
from gatecheck.adapters.shipped_tables import record_rules, shipped_words
from gatecheck.core.errors import DecodeError
from gatecheck.core.records.dump import read_dump
from gatecheck.core.records.encode_evtx import Made, event_log
from gatecheck.core.records.encode_hive import base_block, differences, hive, new_log, old_log
from gatecheck.core.records.evtx import Log, read_events
from gatecheck.core.records.hive import BASE, Hive, marvin32
from gatecheck.core.records.moments import iso, of_filetime
from gatecheck.core.records.own_repair import PATH, read_own_repair
from gatecheck.core.records.read import read_records
from gatecheck.core.records.report import Records
from gatecheck.core.words.said import Said

EVENING = 1_762_193_520.0  # 3 November 2025, 18:12 UTC
FROM_1601 = 11_644_473_600


def ticks(at: float) -> int:
    return int((at + FROM_1601) * 10_000_000)


TREE = {
    "Select": {"Current": 2, "Failed": 1},
    "Values": {
        "long": bytes(range(256)) * 300,
        "name of its own: ü": "tëxt",
        "several": ["one", "two"],
        "wide": 1 << 40,
        "short": b"ab",
        "empty": b"",
    },
    "Many": {f"key{n:04}": {"v": n} for n in range(700)},
}


@pytest.mark.parametrize("kind", [b"lf", b"lh", b"li", b"ri"])
def test_a_hive_is_read_as_it_was_written(kind: bytes) -> None:
    own = Hive(hive(TREE, list_kind=kind))
    assert [k.name for k in own.root.below()] == ["Many", "Select", "Values"]
    many, values = own.root.key("many"), own.root.key("VALUES")
    assert many is not None
    assert values is not None
    assert [k.number("v") for k in many.below()] == list(range(700))
    told = {v.name: v for v in values.values()}
    assert told["long"].raw == bytes(range(256)) * 300
    assert (told["name of its own: ü"].text, told["several"].texts, told["wide"].number) == (
        "tëxt",
        ["one", "two"],
        1 << 40,
    )
    assert (told["short"].raw, told["empty"].raw) == (b"ab", b"")
    assert (own.torn, own.dirty, own.applied) == ([], False, 0)


def changed(tree: Mapping[str, Any]) -> Mapping[str, Any]:
    return {**tree, "Select": {"Current": 1, "Failed": 2}}


def dirty(raw: bytes, *, first: int = 9, second: int = 7) -> bytes:
    return base_block(int.from_bytes(raw[36:40], "little"), len(raw) - BASE, first, second) + raw[BASE:]


def test_entries_of_the_newer_log_are_applied_in_their_order() -> None:
    old, new = hive(TREE), hive(changed(TREE))
    pages, size = differences(old, new), len(old) - BASE
    wrong = [(at, bytes(len(data))) for at, data in pages]
    one = new_log(old, [(7, size, wrong)], 7)
    two = new_log(old, [(8, size, pages), (10, size, wrong)], 8)  # 9 is missing: it ends before 10
    for logs in ([one, two], [two, one]):
        own = Hive(dirty(old), logs)
        assert own.applied == 2
        select = own.root.key("Select")
        assert select is not None
        assert select.number("Current") == 1
    assert Hive(old, [one, two]).applied == 0  # it asks for nothing


def test_an_entry_with_a_wrong_hash_ends_the_log() -> None:
    old, new = hive(TREE), hive(changed(TREE))
    log = bytearray(new_log(old, [(7, len(old) - BASE, differences(old, new))], 7))
    log[-20] ^= 1
    own = Hive(dirty(old), [bytes(log)])
    assert (own.dirty, own.applied) == (True, 0)


def test_pages_of_the_older_log_are_applied() -> None:
    old, new = hive(TREE), hive(changed(TREE))
    pages = differences(old, new)
    own = Hive(dirty(old), [old_log(old, len(old) - BASE, pages)])
    assert own.applied == len(pages) > 0
    select = own.root.key("Select")
    assert select is not None
    assert select.number("Failed") == 2


def test_a_base_block_that_is_gone_is_taken_from_its_log() -> None:
    old = hive(TREE)
    log = new_log(old, [(7, len(old) - BASE, [(0, old[BASE : BASE + 512])])], 7)
    own = Hive(bytes(512) + old[512:], [log])
    assert own.root.key("Select") is not None


@pytest.mark.parametrize(
    ("seed", "data", "wanted"),
    [(0x004FB61A001BDBCC, "", 0x30ED35C100CD3C7D), (0x004FB61A001BDBCC, "AF", 0x48E73FC77D75DDC1)],
)
def test_the_hash_is_marvin32(seed: int, data: str, wanted: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("gatecheck.core.records.hive._SEED", seed)
    assert marvin32(bytes.fromhex(data)) == wanted


def events(count: int = 900) -> list[Made]:
    return [
        Made(
            EVENING + 60 * n,
            "Made-Up" if n % 3 else "EventLog",
            7 + n % 5,
            {"a": f"text {n}", "b": "ü"} if n % 2 else {},
        )
        for n in range(count)
    ]


def test_a_log_is_read_as_it_was_written() -> None:
    log, made = Log(), events()
    read = list(read_events(event_log(made), log))
    assert [(e.source, e.id, e.data, e.at) for e in read] == [(m.source, m.id, dict(m.data), m.at) for m in made]
    assert (log.records, log.torn, log.first, log.last) == (900, [], EVENING, EVENING + 60 * 899)


def test_a_torn_chunk_takes_no_other_away() -> None:
    whole = event_log(events())
    assert len(whole) > 4096 + 2 * 65_536
    for hurt in (bytes(whole[:4096]) + bytes(65_536) + whole[4096 + 65_536 :], whole[: 4096 + 65_536 + 900]):
        log = Log()
        read = list(read_events(hurt, log))
        assert read
        assert {e.record for e in read} <= set(range(1, 901))
        assert len(read) < 900
    log = Log()
    broken = bytearray(whole)
    broken[4096 + 3000 : 4096 + 3100] = bytes(100)
    assert len(list(read_events(bytes(broken), log))) > 800
    assert any("checksum" in said for said in log.torn)


@pytest.mark.parametrize("seed", range(60))
def test_hostile_bytes_end_in_words(seed: int) -> None:
    rng = random.Random(seed)
    for whole, read in (
        (event_log(events(40)), lambda raw: list(read_events(raw, Log()))),
        (hive(TREE), lambda raw: [list(v.values()) for k in Hive(raw).root.below() for v in k.below()]),
    ):
        raw = bytearray(whole)
        for _ in range(rng.choice((1, 5, 50))):
            raw[rng.choice((rng.randrange(len(raw)), 4096 + rng.randrange(2000)))] = rng.randrange(256)
        with contextlib.suppress(DecodeError):
            read(bytes(raw[: rng.randrange(len(raw))] if rng.random() < 0.3 else raw))


class Saved:
    """Files of a system, by path."""

    def __init__(self, files: Mapping[str, bytes]) -> None:
        self._files = {path.lower(): data for path, data in files.items()}
        self._names = list(files)

    def head(self, path: str, count: int) -> bytes | None:
        data = self._files.get(path.lower())
        return None if data is None else data[:count]

    def read(self, path: str) -> tuple[bytes, int] | None:
        data = self._files.get(path.lower())
        return None if data is None else (data, 0)

    def names(self, folder: str) -> list[str]:
        lead = f"{folder.lower()}/" if folder else ""
        return sorted({n[len(lead) :].partition("/")[0] for n in self._names if n.lower().startswith(lead)})

    def link(self, path: str) -> str:
        return ""


def service(start: int, override: int | None = None) -> dict[str, Any]:
    own: dict[str, Any] = {"Start": start, "Type": 1, "Group": "SCSI Miniport"}
    return own if override is None else {**own, "StartOverride": {"0": override}}


SERVICES = {"storahci": service(0, 3), "iaStorVD": service(0), "stornvme": service(3), "Spooler": {"Start": 2}}


def windows(services: Mapping[str, Any] = SERVICES, log: list[Made] | None = None, **more: bytes) -> Saved:
    control = {
        "PEFirmwareType": 2,
        "TimeZoneInformation": {"TimeZoneKeyName": "Made-Up Standard Time", "RealTimeIsUniversal": 1},
        "Windows": {"ShutdownTime": struct.pack("<Q", ticks(EVENING))},
        "Session Manager": {"PendingFileRenameOperations": ["\\??\\C:\\a", "\\??\\C:\\b"]},
    }
    system = {"Select": {"Current": 1}, "ControlSet001": {"Control": control, "Services": dict(services)}}
    version = {"ProductName": "Windows 10 Pro", "EditionID": "Professional", "CurrentBuild": "22631", "UBR": 4317,
               "DisplayVersion": "23H2", "InstallDate": 1_700_000_000}  # fmt: skip
    config = "Windows/System32/config"
    files = {
        f"{config}/SYSTEM": hive(system),
        f"{config}/SOFTWARE": hive({"Microsoft": {"Windows NT": {"CurrentVersion": version}}}),
        "Windows/System32/drivers/iaStorVD.sys": b"MZ",
        "Windows/System32/drivers/storahci.sys": b"MZ",
        **({"Windows/System32/winevt/Logs/System.evtx": event_log(log)} if log else {}),
    }
    return Saved({**files, **more})


def only(files: Saved, *controllers: str) -> Records:
    (own,) = read_records(files, record_rules(), controllers)
    return own


def test_hives_say_what_the_system_is() -> None:
    own = only(windows())
    system = own.windows
    assert system is not None
    assert (system.name, system.edition, system.build, system.version) == (
        "Windows 11 Pro", "Professional", "22631.4317", "23H2",
    )  # fmt: skip
    assert (system.firmware, system.zone, system.universal) == ("uefi", "Made-Up Standard Time", True)
    assert (iso(system.installed), iso(own.last_shutdown), own.clean) == (
        "2023-11-14T22:13:20Z", "2025-11-03T18:12:00Z", None,
    )  # fmt: skip
    assert [shipped_words().say(p) for p in system.pending] == ["file renames: 1"]
    assert {d.name: (d.starts_with_boot, d.present) for d in system.drivers} == {
        "iaStorVD": (True, True), "storahci": (False, True), "stornvme": (False, False),
    }  # fmt: skip
    assert system.installed_for == ("raid",)


@pytest.mark.parametrize(
    ("controllers", "found"), [(("010601",), True), (("010400",), False), (("010601", "010400"), False), ((), False)]
)
def test_a_controller_without_its_driver_is_found(controllers: tuple[str, ...], found: bool) -> None:
    own = only(windows(), *controllers)
    assert any(f.id == "driver-not-started" for f in own.findings) is found


GOOD_DAY = [
    Made(EVENING - 7200, "EventLog", 6005),
    Made(EVENING - 7000, "Service Control Manager", 7036),
    Made(EVENING - 1800, "Microsoft-Windows-WindowsUpdateClient", 19, {"updateTitle": "Two drivers"}),
    Made(EVENING - 60, "EventLog", 6006),
]
BAD_START = [
    Made(EVENING + 60, "EventLog", 6005),
    Made(EVENING + 70, "Microsoft-Windows-WER-SystemErrorReporting", 1001, {"param1": "0x0000007b (0x1)"}),
]


def test_an_update_before_the_first_bad_start_leads_the_sentence() -> None:
    own = only(windows(log=GOOD_DAY + BAD_START))
    assert shipped_words().say(own.sentence) == (
        "Last good start 3 November 2025 16:12 UTC; Two drivers was installed on 3 November 2025 17:42 UTC; "
        "no good start since."
    )
    assert own.findings[0].id == "update-before"
    assert [(c.code, c.name) for c in own.crashes] == [(0x7B, "INACCESSIBLE_BOOT_DEVICE")]


def test_a_system_that_was_shut_down_well_is_not_blamed_on_its_update() -> None:
    own = only(windows(log=GOOD_DAY))
    assert own.clean is True
    assert not any(f.id in ("update-before", "not-clean") for f in own.findings)


def test_disk_errors_are_counted_and_put_together_by_the_hour() -> None:
    errors = [Made(EVENING - 86_400 * day + 10 * n, "disk", 7) for day in (9, 5) for n in range(3)]
    own = only(windows(log=[*errors, *GOOD_DAY]))
    assert [(e.kind, e.count) for e in own.events if e.kind == "disk-error"] == [("disk-error", 3), ("disk-error", 3)]
    finding = next(f for f in own.findings if f.id == "disk-errors")
    assert "6, from 25 October 2025" in shipped_words().say(finding.text)


def test_a_torn_hive_says_so_and_takes_nothing_else_away() -> None:
    own = only(windows(log=GOOD_DAY, **{"Windows/System32/config/SOFTWARE": b"no hive at all"}))
    assert own.windows is not None
    assert (own.windows.name, own.windows.firmware) == (None, "uefi")
    assert next(log.torn for log in own.logs if log.path.endswith("SOFTWARE"))
    assert own.last_good_start is not None


def test_a_dump_tells_its_stop_code() -> None:
    head = bytearray(8192)
    head[:8] = b"PAGEDU64"
    struct.pack_into("<I", head, 0x38, 0xED)
    struct.pack_into("<Q", head, 0xFA8, ticks(EVENING))
    crash = read_dump(bytes(head), record_rules().stop_codes)
    assert (crash.code, crash.name, crash.at) == (0xED, "UNMOUNTABLE_BOOT_VOLUME", EVENING)
    with pytest.raises(DecodeError, match="PAGEDU64"):
        read_dump(bytes(8192), {})


def test_a_torn_log_claims_no_good_start_is_missing() -> None:
    """What would say so may stand in what is lost."""
    log = bytearray(event_log(GOOD_DAY + BAD_START))
    assert b"7\0b\0" in log
    at = log.rindex(b"\x2a\x2a\0\0")
    log[at : at + 4] = bytes(4)
    own = only(windows(**{"Windows/System32/winevt/Logs/System.evtx": bytes(log)}))
    assert (own.clean, own.log_whole) == (None, False)
    assert not any(f.id in ("update-before", "not-clean") for f in own.findings)
    assert "torn" in shipped_words().say(own.sentence)


def test_a_driver_that_no_table_knows_may_serve_any_controller() -> None:
    file = {"Windows/System32/drivers/madeup.sys": b"MZ"}
    own = only(windows(services={**SERVICES, "madeup": service(0)}, **file), "010601")
    assert not any(f.id == "driver-not-started" for f in own.findings)


def test_old_records_behind_the_end_of_a_chunk_are_not_told_again() -> None:
    whole = bytearray(event_log(events(40)))
    chunk = 4096
    end = int.from_bytes(whole[chunk + 48 : chunk + 52], "little")
    first = bytes(whole[chunk + 512 : chunk + 900])
    whole[chunk + end : chunk + end + len(first)] = first
    assert [e.record for e in read_events(bytes(whole), Log())] == list(range(1, 41))


def test_records_behind_a_stale_end_are_read() -> None:
    whole = bytearray(event_log(events(40)))
    whole[4096 + 48 : 4096 + 52] = (2048).to_bytes(4, "little")
    log = Log()
    assert len(list(read_events(bytes(whole), log))) == 40
    assert log.torn
    assert not log.lost


def test_the_tables_name_what_the_words_can_say() -> None:
    rules, said = record_rules(), shipped_words()
    for kind, what in {*rules.events.values(), *(row[2] for row in rules.patterns)}:
        assert said.say(Said(f"records.{kind}", {"what": Said(f"records.what-{what}") if what else "x"}))


def session(kind: int, user: bytes, at: float) -> bytes:
    entry = bytearray(384)
    struct.pack_into("<h", entry, 0, kind)
    entry[44 : 44 + len(user)] = user
    struct.pack_into("<i", entry, 340, int(at))
    return bytes(entry)


@pytest.mark.parametrize(("stopped", "clean"), [(True, True), (False, False)])
def test_linux_says_how_its_last_run_ended(stopped: bool, clean: bool) -> None:
    log = session(2, b"reboot", EVENING) + session(7, b"somebody", EVENING + 300)
    log += session(1, b"shutdown", EVENING + 900) if stopped else b""
    files = Saved(
        {"etc/os-release": b'NAME="Made Up"\nVERSION_ID="12"\n', "etc/adjtime": b"0\n0\nLOCAL\n", "var/log/wtmp": log}
    )
    own = only(files)
    assert own.linux is not None
    assert (own.linux.name, own.linux.version, own.linux.universal) == ("Made Up", "12", False)
    assert (own.last_good_start, own.clean) == (EVENING, clean)


@pytest.mark.parametrize(("at", "shown"), [(EVENING, "2025-11-03T18:12:00Z"), (951_782_400.0, "2000-02-29T00:00:00Z")])
def test_moments_are_shown_in_utc(at: float, shown: str) -> None:
    assert iso(of_filetime(ticks(at))) == shown
    assert of_filetime(0) is None


def trail(*turns: tuple[int, ...], attempts: str = "Turns: 3") -> str:
    lines = ["A trail", "-" * 27, attempts, "Seen: 3/11/2026 5:12", ""]
    for codes in turns:
        lines += ["Turn", "-" * 27, "Disk = \\Device\\Harddisk0", ""]
        for code in codes:
            lines += ["Look", "-" * 27, "What: something", f"End: made up. Code =  0x{code:x}", "Took = 0 ms", ""]
    return "\r\n".join(lines)


@pytest.mark.parametrize(("text", "told"), [
    (trail((0, 0, 0x490)), (3, 1, 3, ("0x490",))), (trail((0x2,), (0, 0)), (3, 2, 2, ())),
    (trail((0x2,), attempts="nothing counted"), (None, 1, 1, ("0x2",))), ("no shape at all", None), ("", None),
    (trail(), None),
])  # fmt: skip
@pytest.mark.parametrize("coded", ["utf-16", "utf-8"])
def test_the_trail_of_the_systems_own_repair_is_read_in_any_language(
    text: str, told: tuple[int | None, int, int, tuple[str, ...]] | None, coded: str, tmp_path: Path
) -> None:
    place = tmp_path / PATH
    place.parent.mkdir(parents=True)
    place.write_bytes(text.encode(coded))
    own = read_own_repair(FolderFiles(tmp_path), "")
    assert (own and (own.attempts, own.sessions, own.tests, own.failed)) == told
