"""The patients of the practice bench: how each came in, what is wrong with it, and the machine that answers the
probe."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from gatecheck.core.disk.encode import gpt_end, mbr_start, system_disk
from gatecheck.core.disk.volume import volume_start
from gatecheck.core.firmware import encode as fw
from gatecheck.core.firmware.pe import image_head
from gatecheck.core.storage.encode_logs import AtaError, AtaTest
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.core.volume.lvm.encode import in_group, logical_sectors, physical_volume
from gatecheck.practice.drives import (
    AtaDrive,
    BridgedDrive,
    Drive,
    NvmeDrive,
    PracticeDisk,
    ScsiDrive,
    SelfTest,
    SolderedDrive,
    grows,
    still,
)
from gatecheck.practice.locked_volumes import locked_volume, recovery_key
from gatecheck.practice.machine import PracticeMachine
from gatecheck.practice.surfaces import Patch, Surface
from gatecheck.practice.volumes import (
    album_volume,
    bad_places,
    card_cross_linked,
    crossed_volume,
    pulled_card,
    server_without_boot_sector,
    sound_volume,
    torn_volume,
    waiting_server,
)

ESP, SYSTEM, OTHER = (
    "5A1F0C3D-88B4-4E27-9D61-70C2E4B8A911",
    "C3E9D210-6F4A-4B58-A1D7-25E09B63F84C",
    "0D7B42F8-1C95-4A6E-8F30-B94D617C2E55",
)
_GB = 10**9
LOADER = {
    "EFI/system/start.efi": image_head(),
    "EFI/BOOT/BOOTX64.EFI": image_head(),
    "EFI/system/start.cfg": b"default system\n",
}
_NOT_WHERE_FIRMWARE_LOOKS = {"EFI/system/start.efi": image_head(), "EFI/system/start.cfg": b"default system\n"}
Facts = dict[str, str | int]


@dataclass(frozen=True)
class Patient:
    """`faults`: what is wrong, by the vocabulary; `shows`: what its pages must lead the engine to (gate, state)."""

    id: str
    title: str
    machine: str
    customer: str
    words: str
    facts: Mapping[str, Any]
    entries: tuple[dict[str, Any], ...]
    faults: tuple[str, ...]
    build: Callable[[], PracticeMachine]
    has_files: bool = False
    """its system volume holds files; the others' volumes are no more than their first sectors"""

    @property
    def sounds(self) -> str:
        """What is heard of it: of what turns, and of what is wrong with that."""
        told = [e["outcome"] for e in self.entries if e.get("move") == "sound"]
        if self.facts.get("drive_kind") != "hdd":
            return "silent"
        if told:
            return str(told[0])
        return {"drive.mechanical": "ticking", "drive.dead": "silent", "power.supply": "restarting"}.get(
            next(iter(self.faults), ""), "steady"
        )

    @property
    def draws(self) -> str:
        """What its drive draws while it starts."""
        return {
            "steady": "normal",
            "ticking": "normal",
            "restarting": "restarting",
            "silent": "flat" if "drive.dead" in self.faults else "no-spin",
        }.get(self.sounds, "normal")

    def connected(self, since: float | None = None) -> PracticeMachine:
        """A fresh machine; its drives have aged since then."""
        made = self.build()
        made.since = time.time() if since is None else since
        return made


_VOLUME = 30_000_000
"""sectors of a system volume that holds something: some 15 GB"""


def _with_volume(
    gb: int, content: Mapping[int, bytes], bad: tuple[str, ...] = (), *, loader: Mapping[str, bytes] | None = None
) -> PracticeDisk:
    """A disk as a system is installed on it, with a volume that holds something. `bad`: files by the ends of their
    names that do not read in their middle."""
    disk = _disk(gb, last=206_848 + _VOLUME - 1, loader=loader)
    disk.content = {at: data for at, data in disk.content.items() if at != 206_848} | {
        206_848 + at: data for at, data in content.items()
    }
    return replace(disk, bad=frozenset(206_848 + at for at in bad_places(content, _VOLUME, bad))) if bad else disk


def _in_group(made: Callable[[int], dict[int, bytes]]) -> dict[int, bytes]:
    """A volume of a small server as its installer sets it up: a logical one."""
    return in_group("vg_server", "root", made(logical_sectors(_VOLUME)), _VOLUME)


def _recorded(serial: str, person: str, records: str, *, is_torn: bool = False, **more: Any) -> AtaDrive:
    """A drive whose system has written down what happened to it."""
    made = torn_volume(_VOLUME, person, records=records) if is_torn else sound_volume(_VOLUME, person, records=records)
    return AtaDrive("QUARRY FLINT S32", serial, _with_volume(32, made), 6_100, rotation=0, wear_now=93, **more)


def _locked_drive(serial: str, name: str, person: str, *, is_torn: bool = False) -> AtaDrive:
    content = locked_volume(_VOLUME, name, person, is_torn=is_torn)
    return AtaDrive("QUARRY FLINT S32", serial, _with_volume(32, content), 4_700, rotation=0, wear_now=95)


def _disk(
    gb: int,
    *,
    layout: str = "gpt",
    volume: str = "ntfs",
    esp: str = ESP,
    system: str = SYSTEM,
    bad: frozenset[int] = frozenset(),
    sector: int = 512,
    loader: Mapping[str, bytes] | None = None,
    surface: Surface | None = None,
    torn: bool = False,
    last: int | None = None,
) -> PracticeDisk:
    """A disk as a system is installed on it. `loader`: what stands on its system partition; `torn`: its first sectors
    are gone; `last`: of its volume, where that does not take all."""
    loader = LOADER if loader is None else loader
    sectors = gb * _GB // sector
    if layout == "gpt":
        start = system_disk(esp, system, sectors=sectors, sector=sector, last=last)
        system_volume = {
            2048 + place: data
            for place, data in fat_volume(loader, sectors=204_800, sector=sector, cluster_sectors=1).items()
        }
        own = (
            physical_volume(
                "vg_loft", {"boot": (10, volume_start("ext")), "root": (2000, volume_start("luks"))}, sector=sector
            )
            if volume == "lvm"
            else {0: volume_start(volume)}
        )
        end = gpt_end(start, sectors=sectors, sector=sector)
        first = {} if torn else {0: start}
        return PracticeDisk(
            sectors,
            {
                **first,
                sectors - len(end) // sector: end,
                **system_volume,
                **{206_848 + at: data for at, data in own.items()},
            },
            bad,
            sector,
            surface,
        )
    if layout == "mbr":
        return PracticeDisk(
            sectors, {0: mbr_start([(7, True, 2048, sectors - 4096)]), 2048: volume_start(volume)}, bad, surface=surface
        )
    if layout == "whole":  # one volume from end to end, and no table
        return PracticeDisk(sectors, {0: volume_start(volume)}, bad, surface=surface)
    return PracticeDisk(sectors, {}, bad, surface=surface)


SYSTEM_ENTRY = fw.load_option("Installed system", fw.partition(ESP), fw.file_path("\\EFI\\system\\start.efi"))
DATA_ENTRY = fw.load_option("Second disk", fw.pci_root(), fw.pci(23), fw.sata(1))
STALE_ENTRY = fw.load_option("Installed system", fw.partition(OTHER), fw.file_path("\\EFI\\system\\start.efi"))
NET_ENTRY = fw.load_option("Network card", fw.pci_root(), fw.pci(31, 6), fw.network())
STICK_ENTRY = fw.load_option("Live stick", fw.pci_root(), fw.pci(20), fw.usb(3))


NETWORK = "0000:00:1f.6 class=020000 vendor=8086 device=15bc driver=e1000e"
AHCI = "0000:00:17.0 class=010601 vendor=8086 device=a352 driver=ahci remapped_nvme=0"
HIDING = "0000:00:17.0 class=010400 vendor=8086 device=2822 driver=ahci remapped_nvme=0"
BATTERY = ("power/AC0/type=Mains", "power/AC0/online=1", "power/BAT0/type=Battery", "power/BAT0/capacity=81")


def _machine(
    product: str,
    drives: Mapping[str, Drive],
    *,
    entries: tuple[bytes, ...] = (SYSTEM_ENTRY, NET_ENTRY),
    order: tuple[int, ...] | None = None,
    chassis: int = 10,
    secure_boot: bool = True,
    uefi: bool = True,
    messages: str = "",
    pci: tuple[str, ...] = (AHCI,),
    state: tuple[str, ...] = (),
    clock: str = "",
) -> PracticeMachine:
    """A machine that was started from the live stick, which stands last among its boot entries."""
    maker, _, model = product.partition(" ")
    serial = f"{model[:2].upper()}{sum(map(ord, product + ''.join(drives))) % 9000 + 1000}"
    table = fw.smbios_table(
        maker=maker, product=model, serial=serial, firmware="1.14", date="06/12/2023", chassis=chassis, memory_mib=16384
    )
    pages: dict[str, bytes] = {
        "dmi/DMI": table,
        "dmi/smbios_entry_point": fw.smbios_entry_point(len(table)),
        "cmdline.txt": b"live quiet\n",
    }
    if uefi:
        options = dict(enumerate((*entries, STICK_ENTRY)))
        pages |= fw.boot_variables(options, order or tuple(options), current=len(entries), secure_boot=secure_boot)
    told = {
        "sys_vendor": maker,
        "product_name": model,
        "product_serial": serial,
        "bios_version": "1.14",
        "bios_date": "06/12/2023",
        "machine": "x86_64",
        "firmware_bits": "64",
        "mode": "uefi" if uefi else "legacy",
        "kernel": "practice",
    }
    told |= {"rtc": clock} if clock else {}
    known = {
        "pci.txt": "\n".join((NETWORK, *pci)) + "\n",
        "machine.txt": "\n".join(
            (*(BATTERY if chassis == 10 else ()), *state, "tpm0/version=2", "acpi/tables=APIC DSDT FACP MSDM SSDT TPM2")
        )
        + "\n",
    }
    return PracticeMachine(
        product,
        {**drives, "sdz": BridgedDrive(PracticeDisk(60_000_000), product="STICK 32")},
        pages,
        told,
        messages,
        known,
    )


def _hdd(serial: str, disk: PracticeDisk, hours: int, **more: Any) -> AtaDrive:
    return AtaDrive("QUARRY SPINDLE 1000", serial, disk, hours, **more)


def _with_new_drives(serial: str, *new: str) -> PracticeMachine:
    """An old drive that is going, and new ones with these serial numbers beside it."""
    fresh = {
        f"sd{letter}": AtaDrive("QUARRY SHALE 240", own, _disk(240, layout="blank"), 1, rotation=0)
        for letter, own in zip("bcde", new, strict=False)
    }
    return _machine(
        "Ostler Tarn Mini",
        {
            "sda": _hdd(serial, _disk(120, surface=Surface(seed=8)), 31_000, counts={5: still(2200), 197: still(1)}),
            **fresh,
        },
        chassis=3,
    )


def _flash(serial: str, disk: PracticeDisk, hours: int, **more: Any) -> NvmeDrive:
    return NvmeDrive(f"QUARRY FLINT N{disk.sectors * 512 // _GB}", serial, disk, hours, **more)


def _pc(form: str, os: str, drive: str, year: int, data: str, **more: Any) -> Facts:
    return {
        "platform": "pc",
        "form": form,
        "installed_os": os,
        "drive_kind": drive,
        "drive_year": year,
        "data": data,
        "mains": "connected",
        **more,
    }


def _seen(*texts: str) -> tuple[dict[str, Any], ...]:
    return tuple({"move": move, "outcome": outcome} for move, _, outcome in (t.partition("=") for t in texts))


def _two_disks() -> PracticeMachine:
    data = AtaDrive(
        "QUARRY SPINDLE 2000",
        "QS2-550071",
        _disk(2000, esp=OTHER, system="91B0C4E7-3A52-4D18-B6F9-E07A25D81C34"),
        9_000,
    )
    drives: dict[str, Drive] = {"nvme0": _flash("QF5-440010", _disk(512), 6_100), "sda": data}
    return _machine(
        "Ferrow Adze-22", drives, entries=(SYSTEM_ENTRY, DATA_ENTRY, NET_ENTRY), order=(1, 0, 2, 3), chassis=3
    )


SPREADING = Surface(
    seed=3,
    patches=(
        Patch(390_000, 470_000, slow=0.5, tries=25),
        Patch(404_000, 431_000, dead=0.004),
        Patch(903_000_000, 905_400_000, slow=0.6, tries=30),
        Patch(904_100_000, 904_400_000, dead=0.001),
    ),
)


PATIENTS: tuple[Patient, ...] = (
    Patient(
        "sound",
        "Nothing wrong with its drive",
        "Ostler Bracken-15",
        "Practice: a sound one",
        "It would not start yesterday. Today it does.",
        _pc("laptop", "windows-11", "nvme", 2024, "backed-up"),
        _seen("story=unknown", "screen=no-boot-device"),
        (),
        lambda: _machine("Ostler Bracken-15", {"nvme0": _flash("QF5-200113", _disk(512), 2_140)}),
    ),
    Patient(
        "ticking",
        "Ticks, and reports no capacity",
        "Ferrow Lathe-14",
        "Practice: a fallen one",
        "It fell from the bed while it was running.",
        _pc("laptop", "windows-10", "hdd", 2017, "irreplaceable"),
        _seen("story=knock", "screen=no-boot-device"),
        ("drive.mechanical",),
        lambda: _machine(
            "Ferrow Lathe-14",
            {"sda": _hdd("QS1-000931", PracticeDisk(0), 18_200, dead=True)},
            messages="ata1: COMRESET failed (errno=-16)\nsd 0:0:0:0: [sda] 0 512-byte logical blocks",
        ),
    ),
    Patient(
        "growing",
        "Loses sectors while you look",
        "Ostler Tarn Mini",
        "Practice: a slow one",
        "Slower every week, then it stopped.",
        _pc("desktop", "windows-10", "hdd", 2019, "irreplaceable", drive_size_gb=1000),
        _seen("story=slow-lately", "screen=repair-loop"),
        ("drive.media",),
        lambda: _machine(
            "Ostler Tarn Mini",
            {
                "sda": _hdd(
                    "QS7-310222",
                    _disk(1000, bad=frozenset(range(400_000, 400_064)), surface=SPREADING),
                    31_240,
                    counts={5: grows(12, 0.02), 197: grows(4, 0.2), 198: grows(3, 0.2)},
                    errors=[AtaError(31_100 + i * 9, 400_000 + i * 7) for i in range(4)],
                    tests=[AtaTest(31_150, 2, 7, 60, 400_011)],
                    self_test=SelfTest(7, 400_003),
                )
            },
            chassis=3,
        ),
    ),
    Patient(
        "worn",
        "Flash at its end",
        "Ostler Bracken-15",
        "Practice: a worn one",
        "It warns about the drive at every start.",
        _pc("laptop", "windows-10", "nvme", 2018, "backed-up"),
        _seen("story=routine", "screen=health-warning"),
        ("drive.worn",),
        lambda: _machine(
            "Ostler Bracken-15", {"nvme0": _flash("QF2-009120", _disk(256), 21_900, used=106, spare=4, warning=1)}
        ),
    ),
    Patient(
        "cable",
        "A cable that loses bits",
        "Ferrow Adze-22",
        "Practice: a moved one",
        "Since the move it is sometimes found and sometimes not.",
        _pc("desktop", "windows-10", "hdd", 2021, "backed-up", drive_size_gb=1000),
        _seen("story=knock", "screen=no-boot-device", "sound=steady", "seen-setup=absent"),
        ("link.broken",),
        lambda: _machine(
            "Ferrow Adze-22",
            {
                "sda": _hdd(
                    "QS4-118840",
                    _disk(1000, surface=Surface(mb_s=180.0, rpm=7200, lost=0.03)),
                    9_800,
                    counts={199: grows(214, 1.5)},
                    errors=[AtaError(9_790 + i, 1000 + i, 0x84, 0x60) for i in range(5)],
                )
            },
            chassis=3,
        ),
    ),
    Patient(
        "false-alarm",
        "A warning without a cause",
        "Ostler Tarn Mini",
        "Practice: an alarmed one",
        "A new drive, and still a warning at every start.",
        _pc("desktop", "linux", "sata-ssd", 2026, "backed-up"),
        _seen("story=after-service", "screen=health-warning"),
        ("alarm.false",),
        lambda: _machine(
            "Ostler Tarn Mini",
            {"sda": AtaDrive("QUARRY FLINT S480", "QF4-771300", _disk(480, volume="ext"), 64, rotation=0)},
            secure_boot=False,
            chassis=3,
        ),
    ),
    Patient(
        "stale-entry",
        "Its boot entry points at an old drive",
        "Ferrow Lathe-14",
        "Practice: a cloned one",
        "A bigger drive was put in and everything copied over.",
        _pc("laptop", "windows-11", "nvme", 2026, "backed-up"),
        _seen("story=after-service", "screen=no-boot-device"),
        ("entries.lost",),
        lambda: _machine(
            "Ferrow Lathe-14",
            {"nvme0": _flash("QF9-310500", _disk(1000, loader=_NOT_WHERE_FIRMWARE_LOOKS), 90)},
            entries=(STALE_ENTRY, NET_ENTRY),
        ),
    ),
    Patient(
        "no-loader",
        "Its loader is gone",
        "Ostler Bracken-15",
        "Practice: a tidied one",
        "Somebody made room on the small partition.",
        _pc("laptop", "windows-11", "nvme", 2024, "backed-up"),
        _seen("story=files-deleted", "screen=no-boot-device"),
        ("loader.damaged",),
        lambda: _machine(
            "Ostler Bracken-15",
            {"nvme0": _flash("QF5-810390", _disk(512, loader={"EFI/BOOT/README.TXT": b"kept\n"}), 2_700)},
        ),
    ),
    Patient(
        "storage-mode",
        "The controller's mode was changed",
        "Ferrow Adze-22",
        "Practice: a reset one",
        "Stops with a code since somebody looked at the settings.",
        _pc("desktop", "windows-10", "sata-ssd", 2021, "backed-up", storage_was="raid"),
        _seen("story=settings-touched", "screen=volume-stop"),
        ("settings.storage-mode",),
        lambda: _machine(
            "Ferrow Adze-22",
            {"sda": AtaDrive("QUARRY FLINT S480", "QF4-660219", _disk(480), 7_300, rotation=0, wear_now=93)},
            chassis=3,
            pci=(AHCI,),
        ),
    ),
    Patient(
        "bridge",
        "A bridge that hides the pages",
        "Ferrow Lathe-14",
        "Practice: one on a dock",
        "Its drive hangs on a USB dock.",
        _pc("laptop", "windows-10", "hdd", 2018, "backed-up"),
        _seen("story=slow-lately", "screen=no-boot-device", "seen-setup=absent"),
        ("link.loose",),
        lambda: _machine("Ferrow Lathe-14", {"sdb": BridgedDrive(_disk(500), zeros=True)}),
    ),
    Patient(
        "hangs",
        "Never answers for one page",
        "Ostler Tarn Mini",
        "Practice: a stubborn one",
        "It takes minutes to start, sometimes it does not.",
        _pc("desktop", "windows-10", "hdd", 2020, "irreplaceable"),
        _seen("story=slow-lately", "screen=stuck-at-logo"),
        ("drive.media",),
        lambda: _machine(
            "Ostler Tarn Mini",
            {
                "sda": _hdd(
                    "QS6-220054", _disk(1000), 22_000, counts={5: still(9), 197: still(2)}, hangs_on="ata-self-tests"
                )
            },
            chassis=3,
        ),
    ),
    Patient(
        "wrong-first",
        "Two drives, the wrong one first",
        "Ferrow Adze-22",
        "Practice: one with two drives",
        "A second drive was put in for the pictures.",
        _pc("desktop", "windows-11", "nvme", 2023, "backed-up"),
        _seen("story=after-service", "screen=wrong-boot-device"),
        ("settings.order",),
        _two_disks,
    ),
    Patient(
        "encrypted",
        "An encrypted volume",
        "Ostler Bracken-15",
        "Practice: a locked one",
        "It asks for a key since the firmware was updated.",
        _pc("laptop", "windows-11", "nvme", 2023, "irreplaceable"),
        _seen("story=after-update", "screen=other-stop"),
        ("settings.secure-boot",),
        lambda: _machine(
            "Ostler Bracken-15",
            {"nvme0": _flash("QF5-810066", _disk(512, volume="encrypted"), 3_900)},
            secure_boot=False,
        ),
    ),
    Patient(
        "locked-inside",
        "A locked volume inside a group",
        "Ostler Bracken-15",
        "Practice: a boxed one",
        "It waits for a password, and then nothing.",
        _pc("laptop", "linux", "nvme", 2024, "irreplaceable"),
        _seen("story=after-update", "screen=other-stop"),
        ("system.update",),
        lambda: _machine(
            "Ostler Bracken-15", {"nvme0": _flash("QF5-900144", _disk(512, volume="lvm"), 1_150)}, secure_boot=False
        ),
    ),
    Patient(
        "old-layout",
        "An older machine in legacy mode",
        "Ferrow Adze-22",
        "Practice: an older one",
        "No start since the power cut.",
        _pc("desktop", "windows-7", "hdd", 2013, "backed-up"),
        _seen("story=power-cut", "screen=loader-message"),
        ("layout.boot-record",),
        lambda: _machine(
            "Ferrow Adze-22", {"sda": _hdd("QS0-104477", _disk(500, layout="mbr"), 51_300)}, uefi=False, chassis=3
        ),
    ),
    Patient(
        "no-table",
        "A disk without a table",
        "Ostler Tarn Mini",
        "Practice: an emptied one",
        "A program was to merge two partitions, then the power went.",
        _pc("desktop", "windows-10", "sata-ssd", 2022, "irreplaceable"),
        _seen("story=power-cut", "screen=no-boot-device"),
        ("layout.table",),
        lambda: _machine(
            "Ostler Tarn Mini",
            {
                "sda": AtaDrive(
                    "QUARRY FLINT S480", "QF4-650031", _disk(480, layout="none"), 5_200, rotation=0, wear_now=96
                )
            },
            chassis=3,
        ),
    ),
    Patient(
        "torn-table",
        "The first sectors of its disk are gone",
        "Ferrow Adze-22",
        "Practice: a torn one",
        "A stick was to be erased. It was not the stick.",
        _pc("desktop", "linux", "sata-ssd", 2022, "irreplaceable"),
        _seen("story=unknown", "screen=no-boot-device"),
        ("layout.table",),
        lambda: _machine(
            "Ferrow Adze-22",
            {
                "sda": AtaDrive(
                    "QUARRY FLINT S480",
                    "QF4-720318",
                    _disk(480, volume="ext", torn=True),
                    3_700,
                    rotation=0,
                    wear_now=97,
                )
            },
            chassis=3,
        ),
    ),
    Patient(
        "no-fallback",
        "Its entry is lost, its loader is not where firmware looks",
        "Ostler Tarn Mini",
        "Practice: a forgotten one",
        "The battery was changed. Since then it asks for a boot device.",
        _pc("desktop", "linux", "nvme", 2023, "backed-up"),
        _seen("story=after-service", "screen=no-boot-device"),
        ("entries.lost",),
        lambda: _machine(
            "Ostler Tarn Mini",
            {"nvme0": _flash("QF5-730042", _disk(512, volume="ext", loader=_NOT_WHERE_FIRMWARE_LOOKS), 2_050)},
            entries=(NET_ENTRY,),
            chassis=3,
        ),
    ),
    Patient(
        "large-sectors",
        "Sectors of 4096 bytes, in namespace 3",
        "Ostler Bracken-15",
        "Practice: a large one",
        "It starts, but the clock is always wrong.",
        _pc("laptop", "linux", "nvme", 2025, "backed-up"),
        _seen("story=routine", "screen=no-boot-device"),
        ("entries.lost",),
        lambda: _machine(
            "Ostler Bracken-15",
            {"nvme0": _flash("QF7-960118", _disk(960, volume="ext", sector=4096), 310, namespace=3)},
        ),
    ),
    Patient(
        "first-sector",
        "Its first sector cannot be read",
        "Ostler Tarn Mini",
        "Practice: a scratched one",
        "It hummed, clicked once and stayed black.",
        _pc("desktop", "windows-10", "hdd", 2018, "irreplaceable", drive_size_gb=1000),
        _seen("story=slow-lately", "screen=no-boot-device"),
        ("drive.media",),
        lambda: _machine(
            "Ostler Tarn Mini", {"sda": _hdd("QS7-300918", _disk(1000, bad=frozenset({0, 9})), 26_400)}, chassis=3
        ),
    ),
    Patient(
        "controller",
        "A disk behind a controller of its own",
        "Ferrow Adze-22",
        "Practice: a controller's",
        "Since the cupboard was moved it starts nothing.",
        _pc("desktop", "windows-10", "hdd", 2019, "backed-up", drive_size_gb=2000),
        _seen("story=knock", "screen=no-boot-device"),
        ("entries.lost",),
        lambda: _machine(
            "Ferrow Adze-22",
            {
                "sda": ScsiDrive(
                    "QUARRY",
                    "VOLUME 5",
                    "QR1-771004",
                    "600605b0771004aa",
                    _disk(2000),
                    0,
                    keeps_logs=False,
                    level="RAID1",
                    bus="raid",
                )
            },
            entries=(NET_ENTRY,),
            chassis=3,
        ),
    ),
    Patient(
        "sas-disk",
        "A disk with SCSI's own pages",
        "Ferrow Adze-22",
        "Practice: a workshop's",
        "The drawing machine. It stops for minutes, then it asks for a boot device.",
        _pc("desktop", "linux", "hdd", 2016, "irreplaceable", drive_size_gb=320),
        _seen("story=slow-lately", "screen=no-boot-device"),
        ("drive.media",),
        lambda: _machine(
            "Ferrow Adze-22",
            {
                "sda": ScsiDrive(
                    "QUARRY",
                    "SPINDLE S600",
                    "QX6-300417",
                    "5000c500300417ab",
                    _disk(600, volume="ext"),
                    61_200,
                    predicted=True,
                    uncorrected=14,
                    scanned=[(61_190 * 60 - n * 300, 7_340_112 + n * 8) for n in range(12)],
                    tests=[(1, 7, 61_150, 7_340_112), (2, 0, 40_010, None)],
                )
            },
            chassis=3,
        ),
    ),
    Patient(
        "soldered",
        "Soldered flash near its end",
        "Ostler Bracken-15",
        "Practice: a small one",
        "The school's cheap ones. It stops at every second start.",
        _pc("laptop", "windows-10", "emmc", 2018, "backed-up", drive_size_gb=32),
        _seen("story=slow-lately", "screen=volume-stop"),
        ("drive.worn",),
        lambda: _machine(
            "Ostler Bracken-15",
            {
                "mmcblk0": SolderedDrive("QE32GB", "0x5a11c0de", _disk(32), life="0x0b 0x08", reserve="0x03"),
                "mmcblk1": SolderedDrive("CARD8", "0x00410077", PracticeDisk(15_000_000), kind="SD"),
            },
        ),
    ),
    Patient(
        "two-alike",
        "Two drives that may be the system's",
        "Ferrow Adze-22",
        "Practice: one with two alike",
        "One was added. Which is which nobody knows.",
        _pc("desktop", "windows-11", "nvme", 2023, "backed-up"),
        _seen("story=after-service", "screen=no-boot-device"),
        ("entries.lost",),
        lambda: _machine(
            "Ferrow Adze-22",
            {
                "nvme0": _flash("QF5-440031", _disk(512), 5_200),
                "nvme1": _flash(
                    "QF5-440077", _disk(512, esp=OTHER, system="91B0C4E7-3A52-4D18-B6F9-E07A25D81C34"), 900
                ),
            },
            entries=(NET_ENTRY,),
            chassis=3,
        ),
    ),
    Patient(
        "flat-battery",
        "Its clock fell back",
        "Ostler Tarn Mini",
        "Practice: a forgetful one",
        "It stood unplugged over the summer.",
        _pc("desktop", "windows-10", "sata-ssd", 2017, "backed-up", storage_was="ahci"),
        _seen("story=routine", "screen=volume-stop"),
        ("battery.flat",),
        lambda: _machine(
            "Ostler Tarn Mini",
            {"sda": AtaDrive("QUARRY FLINT S480", "QF3-120045", _disk(480), 9_900, rotation=0, wear_now=91)},
            chassis=3,
            pci=(HIDING,),
            clock="2017-01-01T00:04:12",
        ),
    ),
    Patient(
        "no-drive",
        "No drive at all",
        "Ferrow Lathe-14",
        "Practice: an empty one",
        "Bought as it is. It asks for a boot device.",
        _pc("laptop", "windows-11", "nvme", 2024, "none"),
        _seen("story=unknown", "screen=no-boot-device"),
        ("drive.dead",),
        lambda: _machine("Ferrow Lathe-14", {}, entries=(NET_ENTRY,)),
    ),
    Patient(
        "whole-locked",
        "Encrypted from end to end, without a table",
        "Ostler Bracken-15",
        "Practice: one without a table",
        "It starts from a key that hangs on my ring, and the ring is at home.",
        _pc("laptop", "linux", "sata-ssd", 2022, "irreplaceable"),
        _seen("story=routine", "screen=no-boot-device"),
        ("bystander.in-the-way",),
        lambda: _machine(
            "Ostler Bracken-15",
            {
                "sda": AtaDrive(
                    "QUARRY FLINT S512", "QF3-550711", _disk(512, layout="whole", volume="luks"), 3_310, rotation=0
                )
            },
            entries=(NET_ENTRY,),
        ),
    ),
    Patient(
        "stranger",
        "Another drive than the ticket's",
        "Ferrow Adze-22",
        "Practice: a borrowed one",
        "My nephew looked at it first.",
        _pc("desktop", "windows-10", "hdd", 2018, "irreplaceable", drive_serial="QS4-771205"),
        _seen("story=after-service", "screen=no-boot-device"),
        ("drive.dead",),
        lambda: _machine(
            "Ferrow Adze-22",
            {
                "sda": AtaDrive(
                    "QUARRY FLINT S256",
                    "QF8-130022",
                    _disk(256),
                    9_400,
                    rotation=0,
                    counts={5: still(900), 197: still(40)},
                )
            },
            chassis=3,
        ),
    ),
    Patient(
        "no-namespace",
        "A controller without a namespace",
        "Ferrow Lathe-14",
        "Practice: a forgetful one",
        "It was there yesterday. Now it says that there is no drive.",
        _pc("laptop", "windows-11", "nvme", 2024, "backed-up"),
        _seen("story=power-cut", "screen=no-boot-device"),
        ("drive.dead",),
        lambda: _machine(
            "Ferrow Lathe-14",
            {"nvme0": _flash("QF5-900713", PracticeDisk(0), 1_280, namespace=0)},
            entries=(NET_ENTRY,),
        ),
    ),
    Patient(
        "mistyped",
        "An entry that cannot be true",
        "Ferrow Lathe-14",
        "Practice: a misread one",
        "It stops with a message about the volume.",
        _pc("laptop", "windows-10", "hdd", 2020, "backed-up", drive_size_gb=1000),
        _seen("story=forced-off", "screen=volume-stop", "sound=steady", "seen-live=absent"),
        ("volume.damaged",),
        lambda: _machine("Ferrow Lathe-14", {"sda": _hdd("QS8-150372", _disk(1000), 12_700)}),
    ),
    Patient(
        "spotted",
        "A few sectors lost in a power cut",
        "Ostler Tarn Mini",
        "Practice: a spotted one",
        "The light went out while it was saving.",
        _pc("desktop", "windows-10", "hdd", 2020, "irreplaceable", drive_size_gb=500),
        _seen("story=power-cut", "screen=other-stop"),
        ("drive.media",),
        lambda: _machine(
            "Ostler Tarn Mini",
            {
                "sda": _hdd(
                    "QS6-400871",
                    _disk(
                        500, surface=Surface(seed=5, spots=frozenset({8_812_345, 8_812_346, 310_004_101, 611_900_777}))
                    ),
                    12_400,
                    counts={197: still(4)},
                    self_test=SelfTest(7, 8_812_345),
                )
            },
            chassis=3,
        ),
    ),
    Patient(
        "beside",
        "The new drive lies beside the old one",
        "Ostler Tarn Mini",
        "Practice: one to be moved over",
        "It warns at every start, and I want my things on a new drive.",
        _pc("desktop", "windows-10", "hdd", 2016, "irreplaceable", drive_size_gb=120),
        _seen("story=slow-lately", "screen=health-warning"),
        ("drive.media",),
        lambda: _with_new_drives("QS1-120664", "QH2-240017"),
    ),
    Patient(
        "one-number-twice",
        "Two new drives with one serial number",
        "Ostler Tarn Mini",
        "Practice: one with twins",
        "It warns at every start. A friend gave me two drives for it, as good as new.",
        _pc("desktop", "windows-10", "hdd", 2016, "irreplaceable", drive_size_gb=120),
        _seen("story=slow-lately", "screen=health-warning"),
        ("drive.media",),
        lambda: _with_new_drives("QS1-120665", "QH2-240018", "QH2-240018"),
    ),
    Patient(
        "one-head",
        "One head of six is gone",
        "Ferrow Adze-22",
        "Practice: a striped one",
        "It was moved while it was on. Some pictures open, some do not.",
        _pc("desktop", "windows-10", "hdd", 2018, "irreplaceable", drive_size_gb=2000),
        _seen("story=knock", "screen=other-stop", "sound=steady"),
        ("drive.mechanical",),
        lambda: _machine(
            "Ferrow Adze-22",
            {
                "sda": AtaDrive(
                    "QUARRY SPINDLE 2000",
                    "QS8-990417",
                    _disk(2000, surface=Surface(seed=6, mb_s=160.0, dead_head=(2, 6, 1.0))),
                    26_300,
                    counts={197: still(3100), 5: still(48)},
                    self_test=SelfTest(7, 2_900_112),
                )
            },
            chassis=3,
        ),
    ),
    Patient(
        "stalling",
        "Answers, and then no more",
        "Ostler Bracken-15",
        "Practice: a stalling one",
        "It starts, and hangs after a few minutes, every time.",
        _pc("laptop", "windows-10", "hdd", 2017, "backed-up", drive_size_gb=500),
        _seen("story=slow-lately", "screen=other-stop"),
        ("drive.mechanical",),
        lambda: _machine(
            "Ostler Bracken-15",
            {
                "sda": _hdd(
                    "QS3-210088", _disk(500, surface=Surface(seed=8, stalls_from=0.04)), 29_900, counts={197: still(1)}
                )
            },
        ),
    ),
    Patient(
        "tidying",
        "Flash that pauses to tidy up",
        "Ferrow Lathe-14",
        "Practice: a hesitant one",
        "Sometimes it stands still for a moment.",
        _pc("laptop", "windows-11", "sata-ssd", 2022, "backed-up", drive_size_gb=480),
        _seen("story=slow-lately", "screen=repair-loop"),
        ("system.files",),
        lambda: _machine(
            "Ferrow Lathe-14",
            {
                "sda": AtaDrive(
                    "QUARRY FLINT S480",
                    "QF4-880140",
                    _disk(480, surface=Surface(seed=9, mb_s=480.0, rpm=0, drops=0.05)),
                    6_900,
                    rotation=0,
                    wear_now=92,
                )
            },
        ),
    ),
    Patient(
        "torn-volume",
        "Its volume was torn by a power cut",
        "Ferrow Adze-22",
        "Practice: a torn volume",
        "The power went while it was saving. Since then it stops half-way.",
        _pc("desktop", "windows-10", "sata-ssd", 2021, "backed-up", drive_size_gb=32),
        _seen("story=power-cut", "screen=volume-stop"),
        ("volume.damaged",),
        lambda: _machine(
            "Ferrow Adze-22",
            {
                "sda": AtaDrive(
                    "QUARRY FLINT S32",
                    "QF2-320417",
                    _with_volume(32, torn_volume(_VOLUME, "Agda")),
                    8_300,
                    rotation=0,
                    wear_now=94,
                )
            },
            chassis=3,
        ),
        has_files=True,
    ),
    Patient(
        "fading-photos",
        "Photographs on a disk with bad places",
        "Ostler Tarn Mini",
        "Practice: a fading one",
        "Thirty years of photographs, and it makes a face at half of them.",
        _pc("desktop", "windows-10", "hdd", 2016, "irreplaceable", drive_size_gb=80),
        _seen("story=slow-lately", "screen=other-stop", "sound=steady"),
        ("drive.media",),
        lambda: _machine(
            "Ostler Tarn Mini",
            {
                "sda": AtaDrive(
                    "QUARRY SPINDLE 80",
                    "QS0-800233",
                    _with_volume(80, sound_volume(_VOLUME, "Berit", pictures=60), ("004.jpg", "017.jpg", "031.jpg")),
                    38_100,
                    counts={197: still(9), 187: still(21)},
                )
            },
            chassis=3,
        ),
        has_files=True,
    ),
    Patient(
        "album",
        "A Mac's photographs on a disk with bad places",
        "Ostler Heron-21",
        "Practice: an old album",
        "It shows a folder with a question mark. All the weddings I photographed are in there.",
        {**_pc("all-in-one", "macos", "hdd", 2014, "irreplaceable", drive_size_gb=80), "platform": "mac"},
        _seen("story=slow-lately", "screen=missing-disk-symbol", "sound=steady"),
        ("drive.media",),
        lambda: _machine(
            "Ostler Heron-21",
            {
                "sda": AtaDrive(
                    "QUARRY SPINDLE 80",
                    "QS0-800417",
                    _with_volume(80, album_volume(_VOLUME, "Solveig"), ("003.jpg", "019.jpg")),
                    41_700,
                    counts={197: still(6), 187: still(14)},
                )
            },
            chassis=13,
        ),
        has_files=True,
    ),
    Patient(
        "emptied-folders",
        "Two folders that somebody deleted",
        "Ferrow Lathe-14",
        "Practice: an emptied folder",
        "The nephew made room on it. Now two years of photographs are gone, and it does not start.",
        _pc("laptop", "windows-10", "sata-ssd", 2020, "irreplaceable", drive_size_gb=32),
        _seen("story=unknown", "screen=loader-message"),
        ("loader.missing",),
        lambda: _machine(
            "Ferrow Lathe-14",
            {
                "sda": AtaDrive(
                    "QUARRY FLINT S32",
                    "QF2-320951",
                    _with_volume(
                        32, sound_volume(_VOLUME, "Tove", erased=True), loader={"EFI/BOOT/README.TXT": b"kept\n"}
                    ),
                    5_600,
                    rotation=0,
                    wear_now=97,
                )
            },
        ),
        has_files=True,
    ),
    Patient(
        "crossed-files",
        "Two pictures in one place, and no first sector",
        "Ostler Bracken-15",
        "Practice: a crossed one",
        "It was switched off by the button, often. Some pictures show others.",
        _pc("laptop", "windows-10", "sata-ssd", 2019, "backed-up", drive_size_gb=32),
        _seen("story=forced-off", "screen=volume-stop"),
        ("volume.damaged",),
        lambda: _machine(
            "Ostler Bracken-15",
            {
                "sda": AtaDrive(
                    "QUARRY FLINT S32",
                    "QF2-320688",
                    _with_volume(32, crossed_volume(_VOLUME, "Runa")),
                    9_900,
                    rotation=0,
                    wear_now=91,
                )
            },
        ),
        has_files=True,
    ),
    Patient(
        "pulled-card",
        "A camera's card, pulled while it was written",
        "Ferrow Adze-22",
        "Practice: a pulled card",
        "The printing kiosk stopped at the card from the harbour fair. The fair was on Sunday.",
        _pc("desktop", "linux", "sata-ssd", 2021, "backed-up", drive_size_gb=16),
        _seen("story=forced-off", "screen=volume-stop"),
        ("volume.damaged",),
        lambda: _machine(
            "Ferrow Adze-22",
            {
                "sda": AtaDrive(
                    "QUARRY FLINT S16",
                    "QF1-160233",
                    _with_volume(16, pulled_card(_VOLUME)),
                    2_100,
                    rotation=0,
                    wear_now=98,
                )
            },
            chassis=3,
        ),
        has_files=True,
    ),
    Patient(
        "crossed-card",
        "An older card, with two tables that disagree",
        "Ferrow Adze-22",
        "Practice: an older card",
        "Half the pictures of the quay end in stripes.",
        _pc("desktop", "linux", "sata-ssd", 2018, "backed-up", drive_size_gb=16),
        _seen("story=power-cut", "screen=volume-stop"),
        ("volume.damaged",),
        lambda: _machine(
            "Ferrow Adze-22",
            {
                "sda": AtaDrive(
                    "QUARRY FLINT S16",
                    "QF1-160871",
                    _with_volume(16, card_cross_linked(_VOLUME)),
                    7_300,
                    rotation=0,
                    wear_now=90,
                )
            },
            chassis=3,
        ),
        has_files=True,
    ),
    Patient(
        "beheaded-server",
        "A small server that has lost its superblock",
        "Ostler Tarn Mini",
        "Practice: a beheaded one",
        "Somebody wrote the wrong image to the wrong disk, and pulled the plug after a second.",
        _pc("desktop", "linux", "hdd", 2019, "backed-up", drive_size_gb=80),
        _seen("story=forced-off", "screen=volume-stop", "sound=steady"),
        ("volume.damaged",),
        lambda: _machine(
            "Ostler Tarn Mini",
            {
                "sda": AtaDrive(
                    "QUARRY SPINDLE 80", "QS0-800544", _with_volume(80, _in_group(server_without_boot_sector)), 21_700
                )
            },
            chassis=3,
        ),
        has_files=True,
    ),
    Patient(
        "swollen",
        "Its lid does not close any more",
        "Ferrow Lathe-14",
        "Practice: a rocking one",
        "It rocks on the table, and the touchpad has got stiff.",
        _pc("laptop", "windows-11", "nvme", 2021, "backed-up"),
        _seen("story=routine", "screen=boots", "pack-look=swollen"),
        ("power.pack",),
        lambda: _machine("Ferrow Lathe-14", {"nvme0": _flash("QF9-410611", _disk(512), 9_200)}),
    ),
    Patient(
        "not-ours",
        "Locked by an organisation",
        "Ostler Bracken-15",
        "Practice: a bought one",
        "Bought at a fair. It asks for a password of a school that nobody here knows.",
        _pc("laptop", "windows-11", "nvme", 2022, "none", lock="organisation"),
        _seen("story=unknown", "screen=wrong-boot-device", "setup-entry=locked"),
        ("settings.order",),
        lambda: _machine(
            "Ostler Bracken-15", {"nvme0": _flash("QF5-810447", _disk(512), 4_100)}, entries=(NET_ENTRY, SYSTEM_ENTRY)
        ),
    ),
    Patient(
        "locked-torn",
        "A locked volume, torn by a power cut",
        "Ostler Bracken-15",
        "Practice: a locked and torn one",
        f"The power went while it was saving. On the printed sheet stands {recovery_key('locked-torn')}.",
        _pc("laptop", "windows-11", "sata-ssd", 2022, "irreplaceable", drive_size_gb=32, recovery_key="on-ticket"),
        _seen("story=power-cut", "screen=volume-stop"),
        ("volume.damaged",),
        lambda: _machine(
            "Ostler Bracken-15", {"sda": _locked_drive("QF2-321207", "locked-torn", "Elin", is_torn=True)}
        ),
        has_files=True,
    ),
    Patient(
        "locked-other-key",
        "A locked volume, and the key of another one",
        "Ostler Bracken-15",
        "Practice: a wrong key",
        f"It wants a key since the new board. On the sheet from the drawer stands {recovery_key('an older laptop')}.",
        _pc("laptop", "windows-11", "sata-ssd", 2021, "backed-up", drive_size_gb=32),
        _seen("story=after-service", "screen=other-stop"),
        ("settings.secure-boot",),
        lambda: _machine(
            "Ostler Bracken-15", {"sda": _locked_drive("QF2-321344", "locked-other-key", "Hedda")}, secure_boot=False
        ),
        has_files=True,
    ),
    Patient(
        "locked-lost-key",
        "A locked volume whose key is lost",
        "Ferrow Lathe-14",
        "Practice: a lost key",
        "It wants a key. The account went with the old telephone; nobody ever printed one.",
        _pc("laptop", "windows-11", "sata-ssd", 2020, "none", drive_size_gb=32, recovery_key="lost"),
        _seen("story=power-cut", "screen=volume-stop"),
        ("volume.damaged",),
        lambda: _machine(
            "Ferrow Lathe-14", {"sda": _locked_drive("QF2-321480", "locked-lost-key", "Moa", is_torn=True)}
        ),
        has_files=True,
    ),
    Patient(
        "update-broke",
        "An update came just before it stopped starting",
        "Ferrow Lathe-14",
        "Practice: after an update",
        "It restarted by itself in the evening. Since then a stop screen, and it starts anew.",
        _pc("laptop", "windows-11", "sata-ssd", 2022, "backed-up", drive_size_gb=32),
        _seen("story=unknown", "screen=other-stop"),
        ("system.update",),
        lambda: _machine("Ferrow Lathe-14", {"sda": _recorded("QF2-321602", "Signe", "update-broke")}),
        has_files=True,
    ),
    Patient(
        "often-cut",
        "Switched off by its socket, often",
        "Ostler Tarn Mini",
        "Practice: an often cut one",
        "It stands in the workshop, on the socket of the saw. Now it stops at a stop screen.",
        _pc("desktop", "windows-11", "sata-ssd", 2021, "backed-up", drive_size_gb=32),
        _seen("story=unknown", "screen=volume-stop"),
        ("volume.damaged",),
        lambda: _machine(
            "Ostler Tarn Mini", {"sda": _recorded("QF2-321711", "Ivar", "power-cuts", is_torn=True)}, chassis=3
        ),
        has_files=True,
    ),
    Patient(
        "repairs-itself",
        "It repairs itself, and starts no better",
        "Ferrow Lathe-14",
        "Practice: a patient one",
        "Every morning it works on itself for a quarter of an hour and then says that it could not.",
        _pc("laptop", "windows-11", "sata-ssd", 2021, "backed-up", drive_size_gb=32),
        _seen("story=unknown", "screen=repair-loop"),
        ("system.files",),
        lambda: _machine("Ferrow Lathe-14", {"sda": _recorded("QF2-321899", "Runa", "repair-loop")}),
        has_files=True,
    ),
    Patient(
        "mode-changed",
        "Its storage mode is not what it was installed for",
        "Ferrow Adze-22",
        "Practice: one that was cleared",
        "Its settings were cleared after a new memory module. Since then a stop screen, and nobody knows what it was.",
        _pc("desktop", "windows-11", "sata-ssd", 2021, "backed-up", drive_size_gb=32),
        _seen("story=settings-touched", "screen=volume-stop"),
        ("settings.storage-mode",),
        lambda: _machine(
            "Ferrow Adze-22", {"sda": _recorded("QF2-322014", "Torben", "mode-changed")}, chassis=3, pci=(AHCI,)
        ),
        has_files=True,
    ),
    Patient(
        "gone-disk",
        "A Linux that waits for a disk that was taken out",
        "Ostler Tarn Mini",
        "Practice: a waiting one",
        "Somebody took the second drive out for the photographs. Now it stops in text and asks for a password.",
        _pc("desktop", "linux", "hdd", 2020, "backed-up", drive_size_gb=80),
        _seen("story=after-service", "screen=other-stop", "sound=steady"),
        ("system.files",),
        lambda: _machine(
            "Ostler Tarn Mini",
            {"sda": AtaDrive("QUARRY SPINDLE 80", "QS0-800791", _with_volume(80, waiting_server(_VOLUME)), 18_300)},
            chassis=3,
        ),
        has_files=True,
    ),
    Patient(
        "quiet-weeks",
        "Weeks of disk errors that nobody mentioned",
        "Ostler Bracken-15",
        "Practice: a quiet one",
        "It has become slow, and this morning it hung at the start.",
        _pc("laptop", "windows-11", "sata-ssd", 2019, "irreplaceable", drive_size_gb=32),
        _seen("story=unknown", "screen=other-stop"),
        ("drive.media",),
        lambda: _machine(
            "Ostler Bracken-15",
            {
                "sda": _recorded(
                    "QF2-321855", "Tyra", "disk-weeks", counts={5: still(31), 187: still(64), 197: still(12)}
                )
            },
        ),
        has_files=True,
    ),
)


def patient(name: str) -> Patient:
    """By its id. Raises KeyError."""
    return next((p for p in PATIENTS if p.id == name), None) or _missing(name)


def _missing(name: str) -> Patient:
    raise KeyError(f"{name}: expected one of {', '.join(p.id for p in PATIENTS)}")


FIRST, USUAL, HARD = "first", "usual", "hard"
_FIRST = (
    "sound",
    "ticking",
    "growing",
    "cable",
    "wrong-first",
    "flat-battery",
    "stale-entry",
    "storage-mode",
    "spotted",
)
_USUAL = (
    "worn", "false-alarm", "no-loader", "no-fallback", "no-table", "encrypted", "old-layout", "no-drive", "one-head",
    "stalling", "torn-volume", "fading-photos", "album", "emptied-folders", "pulled-card", "mistyped", "tidying",
    "swollen", "not-ours", "locked-torn", "locked-other-key", "locked-lost-key",
    "update-broke", "often-cut", "quiet-weeks", "gone-disk", "mode-changed",
    "repairs-itself",
)  # fmt: skip


def level_of(patient: Patient) -> str:
    """How much experience a practice machine asks for."""
    return FIRST if patient.id in _FIRST else USUAL if patient.id in _USUAL else HARD
