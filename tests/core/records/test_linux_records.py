"""What a Linux says of itself: its journal in every form that systemd writes, one that systemd wrote, torn ones;
package managers, zones, volumes that the start waits for, kernels without what belongs to them."""

from __future__ import annotations

import gzip
import lzma
import random
import shutil
import struct
import subprocess
import tracemalloc
from collections.abc import Mapping
from datetime import UTC, datetime
from itertools import pairwise
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

from gatecheck.adapters.folder_files import FolderFiles
from gatecheck.adapters.shipped_tables import disk_words, record_rules
from gatecheck.core.disk.volume_ids import volume_ids
from gatecheck.core.errors import DecodeError
from gatecheck.core.records.document import records_document
from gatecheck.core.records.encode_journal import journal
from gatecheck.core.records.evidence import records_say
from gatecheck.core.records.evtx import Log
from gatecheck.core.records.journal import JournalEntry, read_journal
from gatecheck.core.records.linux import Mount, mounts_missing
from gatecheck.core.records.moments import of_text
from gatecheck.core.records.read import read_records
from gatecheck.core.records.report import Records
from gatecheck.core.records.source import VolumeFiles
from gatecheck.core.records.zone import Zone, read_zone
from gatecheck.core.volume.check import opened
from gatecheck.practice.system_records import GONE
from gatecheck.practice.volumes import waiting_server
from memory_disk import Memory

DAY = 1_793_727_600.0
REACHED, STOPPED = "b07a249cd024414a82dd00cd181378ff", "d93fb3c9c24d451a97cea615ce59c00b"
WRITTEN = Path(__file__).parents[2] / "data" / "written-by-systemd.journal.xz"
ZONES = Path("/usr/share/zoneinfo")


def kernel(text: str) -> dict[str, str]:
    return {"MESSAGE": text, "SYSLOG_IDENTIFIER": "kernel", "_TRANSPORT": "kernel"}


def process(text: str, id: str = "", source: str = "systemd") -> dict[str, str]:
    return {"MESSAGE": text, "SYSLOG_IDENTIFIER": source, **({"MESSAGE_ID": id} if id else {})}


def run(
    number: int, start: float, *lines: Mapping[str, str], minutes: float = 60, ends: bool = True
) -> list[tuple[float, str, Mapping[str, str]]]:
    own = f"{number:032x}"
    told = [kernel("Linux version 6.1.0"), process("Startup finished in 9s.", REACHED), *lines]
    out: list[tuple[float, str, Mapping[str, str]]] = [(start + 20 * n, own, line) for n, line in enumerate(told)]
    last = process("Journal stopped", STOPPED, "systemd-journald") if ends else process("Session 2 of user kaja.")
    return [*out, (start + minutes * 60, own, last)]


def system(
    place: Path, files: Mapping[str, bytes | str], volumes: tuple[tuple[str, ...], bool] | None = None
) -> Records:
    for path, data in {"etc/os-release": 'NAME="Made Up"\nVERSION_ID=12\n', **files}.items():
        own = place / path
        own.parent.mkdir(parents=True, exist_ok=True)
        own.write_bytes(data if isinstance(data, bytes) else data.encode())
    (found,) = read_records(FolderFiles(place), record_rules(), (), volumes)
    return found


def entries_of(raw: bytes) -> tuple[list[JournalEntry], Log]:
    log = Log()
    return list(read_journal(raw, log, frozenset({"MESSAGE", "MESSAGE_ID", "SYSLOG_IDENTIFIER"}))), log


LONG = [(DAY + n, f"{1 + n // 70:032x}", kernel(f"line {n}" + " and more" * (n % 40))) for n in range(200)]


@pytest.mark.parametrize("compact", [False, True])
@pytest.mark.parametrize("packed", ["", "xz", "lz4", "zstd"])
def test_a_journal_is_read_in_every_form(packed: str, compact: bool, tmp_path: Path) -> None:
    raw = journal(LONG, packed=packed, compact=compact)
    found, log = entries_of(raw)
    assert [(e.at, e.boot, e.fields["MESSAGE"]) for e in found] == [(at, boot, f["MESSAGE"]) for at, boot, f in LONG]
    assert (log.records, log.torn, log.lost) == (200, [], False)
    if shutil.which("journalctl"):  # the system's own reader takes what ours is tested with
        (tmp_path / "own.journal").write_bytes(raw)
        said = subprocess.run(
            ["journalctl", "--file", tmp_path / "own.journal", "-o", "cat", "--no-pager"],
            capture_output=True,
            text=True,
        )
        assert said.stdout.splitlines() == [f["MESSAGE"] for _, _, f in LONG], said.stderr


def test_a_journal_that_systemd_wrote(tmp_path: Path) -> None:
    own = system(tmp_path, {"var/log/journal/0a/system.journal": lzma.decompress(WRITTEN.read_bytes())})
    assert own.logs[0].records == 216
    assert own.logs[0].torn == ()
    assert [e.kind for e in own.events].count("start") == 5
    assert [(e.kind, e.text.values["what"].id) for e in own.events if e.kind == "disk-error"] == [
        ("disk-error", "records.what-request-failed")
    ]
    assert [e.at for e in own.events if e.kind == "power-lost"] == [DAY + 5 * 86_400]
    assert (own.last_good_start, own.clean) == (DAY + 5 * 86_400, True)


def test_torn_journals_give_what_stands_in_them_and_say_so() -> None:
    whole = journal(LONG, packed="zstd", compact=True)
    words = {f["MESSAGE"] for _, _, f in LONG}
    for seed in range(150):
        rng = random.Random(seed)
        raw = bytearray(whole)
        if seed % 3 == 0:
            del raw[rng.randrange(300, len(raw)) :]
        elif seed % 3 == 1:
            at = rng.randrange(272, len(raw) - 600)
            raw[at : at + 512] = bytes(512)
        else:
            for _ in range(30):
                raw[rng.randrange(272, len(raw))] = rng.randrange(256)
        found, log = entries_of(bytes(raw))
        told = [e.fields["MESSAGE"] for e in found if "MESSAGE" in e.fields]
        if seed % 3 < 2:
            assert set(told) <= words
        assert len(told) == 200 or log.torn or seed % 3 == 2
    for bad in (b"", b"LPKSHHRH", bytes(4000), whole[:12] + b"\x00\x01\x00\x00" + whole[16:]):
        with pytest.raises(DecodeError, match="journal"):
            entries_of(bad)


LINES = {
    "I/O error, dev sda, sector 77 op 0x0:(READ)": ("disk-error", "sda"),
    "blk_update_request: critical medium error, dev sdb, sector 9": ("disk-error", "sdb"),
    "ata3.00: failed command: READ FPDMA QUEUED": ("disk-error", "ata3.00"),
    "ata1: hard resetting link": ("disk-error", "ata1"),
    "nvme nvme0: I/O 5 QID 2 timeout, aborting": ("disk-error", "nvme0"),
    "EXT4-fs error (device sda2): ext4_find_entry:1455: inode #2": ("file-system-error", "sda2"),
    "EXT4-fs error (device dm-0): ext4_lookup:1855": ("file-system-error", "dm-0"),
    "XFS (dm-1): Metadata corruption detected at xfs_buf": ("file-system-error", "dm-1"),
    "BTRFS error (device sdc1): parent transid verify failed": ("file-system-error", "sdc1"),
    "Kernel panic - not syncing: VFS: Unable to mount root fs": ("stop-code", "VFS: Unable to mount root fs"),
    "mce: [Hardware Error]: Machine check events logged": ("machine-check", ""),
    "EXT4-fs (sda2): mounted filesystem with ordered data mode": None,
    "usb 1-2: new high-speed USB device": None,
}


def test_lines_of_the_kernel_are_told_by_table() -> None:
    for text, told in LINES.items():
        found = record_rules().line_of("kernel", text)
        assert (found and (found[0], found[2])) == told, text
    assert record_rules().line_of("somebody", "I/O error, dev sda, sector 77") is None, "only the kernel knows"


def test_a_start_that_ends_in_the_emergency_mode_is_no_good_one(tmp_path: Path) -> None:
    made = run(1, DAY) + run(2, DAY + 86_400, process("You are in emergency mode. After logging in"), minutes=300)
    own = system(tmp_path, {"var/log/journal/0a/system.journal": journal(made)})
    assert own.last_good_start == DAY
    assert "emergency" in [f.id for f in own.findings]
    assert records_say([own]) is None, "the check has no answer for it, and quiet it was not"


def test_runs_without_a_shutdown_are_power_cuts_but_not_where_the_log_is_torn(tmp_path: Path) -> None:
    made = run(1, DAY, ends=False) + run(2, DAY + 86_400, ends=False) + run(3, DAY + 2 * 86_400)
    raw = journal(made)
    own = system(tmp_path / "whole", {"var/log/journal/0a/system.journal": raw})
    assert [f.text.values["count"] for f in own.findings if f.id == "power-cuts"] == [2]
    torn = raw[:-700]
    own = system(tmp_path / "torn", {"var/log/journal/0a/system.journal": torn})
    assert not own.log_whole
    assert "power-cuts" not in [f.id for f in own.findings]


PACKAGES = {
    "var/log/dpkg.log": (
        "2026-11-03 20:40:01 status installed linux-image-6.1:amd64 6.1.2\n"
        "2026-11-03 20:41:01 status installed nano:amd64 7\n"
    ),
    "var/log/dnf.rpm.log": "2026-11-03T20:40:01+0100 SUBDEBUG Upgraded: kernel-core-6.1.2-1.x86_64\n",
    "var/log/zypp/history": "# a line\n2026-11-03 20:40:01|install|kernel-default|6.4-1|x86_64|root|repo|\n",
    "var/log/pacman.log": "[2026-11-03T20:40:01+0100] [ALPM] upgraded linux (6.0-1 -> 6.1-1)\n",
}


@pytest.mark.skipif(not (ZONES / "Europe" / "Berlin").exists(), reason="no zones on this computer")
@pytest.mark.parametrize("path", PACKAGES)
def test_updates_of_what_the_start_needs_are_found_in_every_manager_s_log(path: str, tmp_path: Path) -> None:
    own = system(
        tmp_path,
        {
            path: PACKAGES[path],
            "etc/timezone": "Europe/Berlin\n",
            "usr/share/zoneinfo/Europe/Berlin": (ZONES / "Europe" / "Berlin").read_bytes(),
            "var/log/journal/0a/system.journal": journal(
                run(1, 1_793_732_000, minutes=300) + run(2, 1_793_760_000, minutes=1, ends=False)
            ),
        },
    )
    (update,) = own.updates
    assert update.at == datetime(2026, 11, 3, 19, 40, 1, tzinfo=UTC).timestamp()
    assert own.findings[0].id == "update-before"
    assert records_say([own])["weights"]["update-before"] > 0.7  # type: ignore[index]


@pytest.mark.skipif(not ZONES.exists(), reason="no zones on this computer")
@pytest.mark.parametrize(
    "name",
    ["Europe/Berlin", "America/New_York", "Australia/Sydney", "Asia/Kolkata", "America/Sao_Paulo", "Europe/Dublin"],
)
def test_local_times_are_those_of_another_reader_of_zones(name: str) -> None:
    zone = read_zone((ZONES / name).read_bytes())
    assert zone is not None
    other = ZoneInfo(name)
    for seconds in range(1_400_000_000, 2_600_000_000, 9_876_543):
        at = datetime.fromtimestamp(seconds, UTC).astimezone(other)
        offset = at.utcoffset()
        assert offset is not None
        assert zone.offset(seconds) == offset.total_seconds(), at
        assert zone.utc(seconds + offset.total_seconds()) in (seconds, seconds - 3600, seconds + 3600)
    assert read_zone(b"TZif2") is None
    assert Zone().utc(5.0) == 5.0


@pytest.mark.parametrize(("text", "told"), [
    ("2026-11-03T18:40:01Z x", (1793731201, True)), ("2026-11-03 18:40:01 x", (1793731201, False)),
    ("2026-11-03T19:40:01+0100", (1793731201, True)), ("2026-11-03T19:40:01.123456+01:00", (1793731201, True)),
    ("2026-13-03 18:40:01", None), ("soon", None), ("1970-01-01 00:00:01", None),
])  # fmt: skip
def test_times_in_texts(text: str, told: tuple[float, bool] | None) -> None:
    assert of_text(text) == told


def test_what_belongs_to_a_kernel_is_missed_only_where_it_can_be_looked_for(tmp_path: Path) -> None:
    base = {
        "boot/vmlinuz-6.1": b"x",
        "boot/vmlinuz-6.0": b"x",
        "boot/initrd.img-6.0": b"x",
        "lib/modules/6.0/modules.dep": b"",
    }
    own = system(tmp_path / "a", base)
    assert {(f.id, f.text.values["what"]) for f in own.findings} == {
        ("kernel-without-modules", "6.1"),
        ("kernel-without-initrd", "6.1"),
    }
    own = system(tmp_path / "b", {"boot/vmlinuz-6.1": b"x"})
    assert own.findings == [], "neither a place of modules nor any initial RAM disk was seen"


def test_a_package_that_was_left_half_done_is_named(tmp_path: Path) -> None:
    status = "Package: nano\nStatus: install ok installed\n\nPackage: udev\nStatus: install ok half-configured\n"
    own = system(tmp_path, {"var/lib/dpkg/status": status})
    assert [(f.id, f.text.values["what"]) for f in own.findings] == [("packages-half-done", "udev")]
    document = records_document([own], [], disk_words().say)
    assert document["systems"][0]["pending"] == ["An installation was interrupted: udev"]  # type: ignore[index]


def test_volumes_that_fstab_names_are_looked_for_by_what_they_are_called() -> None:
    there = ("UUID=AB12-CD34", "PARTUUID=0f-01", "LABEL=data", "PARTLABEL=EFI system partition")
    ours = ["UUID=ab12-cd34", 'LABEL="data"', "PARTUUID=0F-01", "/dev/disk/by-uuid/AB12-CD34", "/dev/sda1", "tmpfs"]
    gone = ["UUID=other", "LABEL=old", "/dev/disk/by-partuuid/0f-02"]
    assert mounts_missing([Mount(what, "/x", waits=True) for what in ours], there) == []
    assert [m.what for m in mounts_missing([Mount(what, "/x", waits=True) for what in gone], there)] == gone


@pytest.mark.parametrize("hidden", [False, True])
def test_a_disk_that_was_taken_out_is_told_unless_it_may_be_inside_something(hidden: bool) -> None:
    sectors, raw = 400_000, bytearray(400_000 * 512)
    for first, data in waiting_server(sectors).items():
        raw[first * 512 : first * 512 + len(data)] = data
    disk = Memory(bytes(raw))
    found = volume_ids(disk)
    assert not found.is_closed
    assert "LABEL=server" in found.names
    volume = opened(disk, 0, sectors - 1).volume
    assert volume is not None
    (own,) = read_records(VolumeFiles(volume), record_rules(), (), (found.names, hidden))
    gone = [f for f in own.findings if f.id == "volume-gone"]
    assert [f.text.values["what"] for f in gone] == ([] if hidden else [f"UUID={GONE}"])
    starts = [e.at for e in own.events if e.kind == "start"]
    assert all(a is not None and b is not None and a < b for a, b in pairwise(starts))


def wtmp(*moments: float) -> bytes:
    return b"".join(struct.pack("<h42s32s264si40s", 2, b"", b"reboot", b"", int(at), b"") for at in moments)


@pytest.mark.parametrize("form", ["classic", "modern"])
@pytest.mark.parametrize("path", ["var/log/messages", "var/log/syslog"])
def test_without_a_journal_the_text_logs_tell(form: str, path: str, tmp_path: Path) -> None:
    def line(at: float, source: str, text: str) -> str:
        own = datetime.fromtimestamp(at, UTC)
        stamp = own.strftime("%b %e %H:%M:%S") if form == "classic" else own.strftime("%Y-%m-%dT%H:%M:%S.123456+00:00")
        return f"{stamp} bench {source}: {text}\n"

    older = [
        line(DAY, "kernel", "[    0.000000] Linux version 6.1.0"),
        line(DAY + 3000, "kernel", "[ 3000.1] I/O error, dev sda, sector 9 op 0x0:(READ)"),
        line(DAY + 4000, "systemd[1]", "Reached target Power-Off."),
    ]
    newer = [
        line(DAY + 90_000, "kernel", "[    0.000000] Linux version 6.1.0"),
        line(DAY + 97_000, "somebody", "something"),
        line(DAY + 99_000, "kernel", "[    0.000000] Linux version 6.1.0"),
        line(DAY + 99_500, "kernel", "EXT4-fs error (device sda2): ext4_lookup:1855"),
    ]
    own = system(
        tmp_path,
        {path: "".join(newer), f"{path}.1": "".join(older), "var/log/wtmp": wtmp(DAY, DAY + 90_000, DAY + 99_000)},
    )
    assert [(e.kind, e.at) for e in own.events if e.kind in ("start", "stop", "power-lost")] == [
        ("start", DAY), ("stop", DAY + 4000), ("start", DAY + 90_000),
        ("start", DAY + 99_000), ("power-lost", DAY + 99_000),
    ]  # fmt: skip
    assert {"disk-errors", "file-system-errors", "power-cuts"} <= {f.id for f in own.findings}
    assert (own.last_good_start, own.clean) == (DAY + 99_000, False)
    assert {log.path for log in own.logs} == {path, f"{path}.1", "var/log/wtmp"}


def test_a_shutdown_that_only_the_first_process_told_of_is_one(tmp_path: Path) -> None:
    """A journal that is taken off its folder before the end has no line of its own end."""
    stopped = process("Stopped target multi-user.target - Multi-User System.")
    made = run(1, DAY, stopped, ends=False) + run(2, DAY + 86_400, stopped, ends=False)
    own = system(tmp_path, {"var/log/journal/0a/system.journal": journal(made)})
    assert (own.clean, [f.id for f in own.findings]) == (True, [])


@pytest.mark.skipif(not (ZONES / "Europe" / "Berlin").exists(), reason="no zones on this computer")
def test_a_zone_is_found_by_its_link_and_where_it_is_not_known_local_times_are_not_read(tmp_path: Path) -> None:
    path = "var/log/dpkg.log"
    for name, there, times in (
        ("linked", True, [datetime(2026, 11, 3, 19, 40, 1, tzinfo=UTC).timestamp()]),
        ("lost", False, []),
    ):
        place = tmp_path / name
        (place / "etc").mkdir(parents=True)
        (place / "etc/localtime").symlink_to("../usr/share/zoneinfo/Europe/Berlin")
        zone = {"usr/share/zoneinfo/Europe/Berlin": (ZONES / "Europe" / "Berlin").read_bytes()} if there else {}
        own = system(place, {path: PACKAGES[path], **zone})
        assert [u.at for u in own.updates] == times
        assert own.linux is not None
        assert own.linux.zone == "Europe/Berlin"


def test_a_kernel_whose_name_is_no_version_is_not_judged(tmp_path: Path) -> None:
    files = {"boot/vmlinuz-linux": b"x", "boot/initramfs-linux.img": b"x", "boot/vmlinuz-huge": b"x"}
    own = system(tmp_path, {**files, "lib/modules/6.6.1-arch/modules.dep": b""})
    assert own.findings == []


@pytest.mark.parametrize(("line", "waits", "weight"), [
    ("UUID=dead / ext4 defaults 0 1", False, 0.4), ("UUID=dead /srv ext4 defaults 0 2", True, 0.8),
    ("UUID=dead none swap sw 0 0", True, 0.2), ("UUID=dead /srv ext4 nofail 0 2", True, 0.2),
])  # fmt: skip
def test_a_volume_that_is_not_on_this_disk_weighs_by_what_the_log_says(
    line: str, waits: bool, weight: float, tmp_path: Path
) -> None:
    """It may be on another disk: only a start that waited in vain makes it heavy."""
    told = [process("Timed out waiting for device /dev/disk/by-uuid/dead.")] if waits else []
    made = run(1, DAY) + run(2, DAY + 86_400, *told)
    own = system(
        tmp_path,
        {"etc/fstab": line, "var/log/journal/0a/system.journal": journal(made)},
        volumes=(("UUID=alive",), False),
    )
    assert [f.weight for f in own.findings if f.where == "etc/fstab"] == [weight]


def test_what_is_packed_to_nothing_takes_no_memory(tmp_path: Path) -> None:
    bomb = gzip.compress(bytes(300 << 20))
    tracemalloc.start()
    own = system(tmp_path, {"var/log/messages.2.gz": bomb})
    assert tracemalloc.get_traced_memory()[1] < 250 << 20
    tracemalloc.stop()
    assert own.events == []
