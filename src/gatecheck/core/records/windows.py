"""What Windows has written down in its hives: editions, clock, storage drivers, updates, what is pending.

Value names as the systems' own documentation has them. Nothing else is read: no documents, no browsing.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from gatecheck.core.errors import DecodeError
from gatecheck.core.records.hive import Hive, HiveKey
from gatecheck.core.records.moments import of_filetime, of_unix
from gatecheck.core.records.rules import RecordRules
from gatecheck.core.records.source import Files
from gatecheck.core.words.said import Said, say

CONFIG = "Windows/System32/config"
_PACKAGE = re.compile(r"(?i)^(package_for_\w+|package_\d+_for_kb\d+)")
_MOST_UPDATES = 50
_OFF = 3


@dataclass(frozen=True, slots=True)
class Driver:
    """`start`: 0 with the boot, 3 on demand, 4 never; `override` in its place where there is one; `present`: is its
    file there, None where the folder of drivers was not at hand."""

    name: str
    file: str
    present: bool | None
    start: int | None
    override: int | None
    serves: str | None

    @property
    def starts_with_boot(self) -> bool:
        return (self.start if self.override is None else self.override) == 0


@dataclass(frozen=True, slots=True)
class Update:
    at: float | None
    name: str
    result: str


@dataclass(frozen=True, slots=True)
class WindowsSystem:
    """None: not read, or not told."""

    root: str
    name: str | None = None
    version: str | None = None
    edition: str | None = None
    build: str | None = None
    installed: float | None = None
    firmware: str | None = None
    zone: str | None = None
    universal: bool | None = None
    installed_for: tuple[str, ...] = ()
    drivers: tuple[Driver, ...] = ()
    last_shutdown: float | None = None
    fast_start: bool | None = None
    hibernated: bool | None = None
    encryption: str | None = None
    updates: tuple[Update, ...] = ()
    pending: tuple[Said, ...] = ()
    computer: str | None = None
    control_set: int | None = None
    failed_set: int | None = None
    filters: tuple[str, ...] = ()


@dataclass(slots=True)
class HiveRead:
    """How a file was read. `torn`: what could not be, in words."""

    path: str
    torn: list[str] = field(default_factory=list)


def roots(files: Files) -> list[str]:
    """Folders in which a Windows has its files: the root, or folders of its own; "" for the root. A folder that holds
    hives themselves is one too."""
    found = [root for root in ("", *files.names("")) if files.head(_joined(root, f"{CONFIG}/SYSTEM"), 4) is not None]
    return found or [root for root in ("", *files.names("")) if files.head(_joined(root, "SYSTEM"), 4) == b"regf"]


def _joined(root: str, path: str) -> str:
    return f"{root}/{path}" if root else path


def read_windows(files: Files, root: str, rules: RecordRules) -> tuple[WindowsSystem, list[HiveRead]]:
    logs: list[HiveRead] = []
    system = _hive(files, root, "SYSTEM", logs)
    software = _hive(files, root, "SOFTWARE", logs)
    told: dict[str, object] = {}
    for opened, ask in ((system, _from_system), (software, _from_software)):
        if opened is None:
            continue
        hive, log = opened
        try:
            told |= ask(hive.root, files, root, rules)
        except DecodeError as error:
            hive.note(error)
        log.torn += hive.torn
    head = files.head(_joined(root, "hiberfil.sys"), 4096)
    if head is not None:
        told["hibernated"] = head[:4].lower() == b"hibr"
    waiting = (*_sentences(told.pop("pending", ())), *_sentences(told.pop("more_pending", ())))
    return WindowsSystem(root, pending=waiting, **told), logs  # type: ignore[arg-type]


def system_of(hive: Hive, files: Files, root: str, rules: RecordRules) -> WindowsSystem:
    """What the SYSTEM hive alone tells. Raises DecodeError."""
    told = _from_system(hive.root, files, root, rules)
    return WindowsSystem(root, pending=_sentences(told.pop("pending", ())), **told)  # type: ignore[arg-type]


def _sentences(own: object) -> tuple[Said, ...]:
    return own if isinstance(own, tuple) else ()


def _hive(files: Files, root: str, name: str, logs: list[HiveRead]) -> tuple[Hive, HiveRead] | None:
    for path in (_joined(root, f"{CONFIG}/{name}"), _joined(root, name)):
        raw = files.read(path)
        if raw is None:
            continue
        beside = [files.read(f"{path}.{end}") for end in ("LOG1", "LOG2", "LOG")]
        log = HiveRead(path)
        logs.append(log)
        if raw[1]:
            log.torn.append(f"{raw[1]} bytes could not be read")
        try:
            return Hive(raw[0], [own[0] for own in beside if own is not None]), log
        except DecodeError as error:
            log.torn.append(str(error))
            return None
    return None


def _from_system(root: HiveKey, files: Files, folder: str, rules: RecordRules) -> dict[str, object]:
    select = root.key("Select")
    current = (select.number("Current") if select else None) or 1
    own = root.key(f"ControlSet{current:03d}")
    told: dict[str, object] = {"control_set": current}
    failed = select.number("Failed") if select else None
    told["failed_set"] = failed or None
    if own is None:
        return told
    control = own.key("Control")
    if control is not None:
        told |= _from_control(control)
    services = own.key("Services")
    drivers = drivers_of(services, files, folder, rules) if services else ()
    told["drivers"] = drivers
    told["installed_for"] = _installed_for(drivers, own.key("Enum\\PCI"), rules)
    disk = own.key("Control\\Class\\{4d36e967-e325-11ce-bfc1-08002be10318}")
    filters = [v for name in ("UpperFilters", "LowerFilters") if disk and (v := disk.value(name))]
    told["filters"] = tuple(text for v in filters for text in v.texts if text.lower() not in ("partmgr", "ehstorclass"))
    session = control.key("Session Manager") if control else None
    renames = session.value("PendingFileRenameOperations") if session else None
    pending = []
    if renames is not None and renames.texts:
        pending.append(say("records.pending-renames", count=max(1, len(renames.texts) // 2)))
    setup = root.key("Setup")
    if setup is not None and setup.number("SystemSetupInProgress"):
        pending.append(say("records.pending-setup"))
    told["pending"] = tuple(pending)
    return told


def _from_control(control: HiveKey) -> dict[str, object]:
    told: dict[str, object] = {}
    firmware = control.number("PEFirmwareType")
    told["firmware"] = {1: "bios", 2: "uefi"}.get(firmware or 0)
    computer = control.key("ComputerName\\ComputerName")
    told["computer"] = computer.text("ComputerName") if computer else None
    zone = control.key("TimeZoneInformation")
    if zone is not None:
        told["zone"] = zone.text("TimeZoneKeyName") or zone.text("StandardName")
        universal = zone.number("RealTimeIsUniversal")
        told["universal"] = bool(universal)
    shutdown = control.key("Windows")
    value = shutdown.value("ShutdownTime") if shutdown else None
    if value is not None and len(value.raw) >= 8:
        told["last_shutdown"] = of_filetime(int.from_bytes(value.raw[:8], "little"))
    power = control.key("Session Manager\\Power")
    fast = power.number("HiberbootEnabled") if power else None
    told["fast_start"] = None if fast is None else bool(fast)
    status = control.key("BitLockerStatus")
    boot = status.number("BootStatus") if status else None
    told["encryption"] = None if boot is None else "on" if boot else "off"
    return told


def drivers_of(services: HiveKey, files: Files, root: str, rules: RecordRules) -> tuple[Driver, ...]:
    """Those of storage controllers: by name, or by their group."""
    has_folder = bool(files.names(_joined(root, "Windows/System32/drivers")))
    found = []
    for own in services.below():
        serves = rules.serves(own.name)
        group = (own.text("Group") or "").lower()
        if serves is None and group != "scsi miniport":
            continue
        start = own.number("Start")
        if start is None:
            continue
        path = own.text("ImagePath") or f"System32\\drivers\\{own.name}.sys"
        path = re.sub(r"(?i)^(\\systemroot\\|%systemroot%\\|\\\?\?\\\w:\\windows\\)", "", path).replace("\\", "/")
        there = files.head(_joined(root, f"Windows/{path}"), 2) is not None if has_folder else None
        instead = own.key("StartOverride")
        found.append(Driver(own.name, path, there, start, instead.number("0") if instead else None, serves))
    return tuple(sorted(found, key=lambda d: (not d.starts_with_boot, d.name.lower())))


def _installed_for(drivers: tuple[Driver, ...], devices: HiveKey | None, rules: RecordRules) -> tuple[str, ...]:
    """Storage modes that the system starts in: served by a driver that starts with the boot; of several, those whose
    controllers it has met."""
    ready = {d.serves for d in drivers if d.serves and d.starts_with_boot and d.present is not False}
    met: set[str] = set()
    for device in devices.below() if devices else ():
        for one in device.below():
            service = (one.text("Service") or "").lower()
            ids = one.value("CompatibleIDs")
            codes = re.findall(r"CC_(\d{4})", " ".join(ids.texts)) if ids else []
            modes = {mode for code in codes if (mode := rules.mode_of(code))}
            if service:
                met |= modes & {rules.serves(service) or ""} or modes
    return tuple(sorted(ready & met or ready))


def _from_software(root: HiveKey, files: Files, folder: str, rules: RecordRules) -> dict[str, object]:
    del files, folder
    told: dict[str, object] = {}
    own = root.key("Microsoft\\Windows NT\\CurrentVersion")
    if own is not None:
        build = own.text("CurrentBuildNumber") or own.text("CurrentBuild")
        ubr, product = own.number("UBR"), own.text("ProductName")
        if product and build and build.isdigit() and int(build) >= 22_000:  # the value was never changed
            product = product.replace("Windows 10", "Windows 11")
        major, minor = own.number("CurrentMajorVersionNumber"), own.number("CurrentMinorVersionNumber")
        told["name"] = product
        told["version"] = own.text("DisplayVersion") or own.text("ReleaseId") or (
            f"{major}.{minor}" if major is not None and minor is not None else own.text("CurrentVersion")
        )  # fmt: skip
        told["edition"] = own.text("EditionID")
        told["build"] = f"{build}.{ubr}" if build and ubr is not None else build
        date = own.number("InstallDate")
        told["installed"] = of_unix(date) if date is not None else None
    servicing = root.key("Microsoft\\Windows\\CurrentVersion\\Component Based Servicing")
    pending = []
    if servicing is not None:
        told["updates"] = _updates(servicing.key("Packages"), rules)
        if servicing.key("RebootPending") is not None:
            pending.append(say("records.pending-updates"))
    if root.key("Microsoft\\Windows\\CurrentVersion\\WindowsUpdate\\Auto Update\\RebootRequired") is not None:
        pending.append(say("records.pending-restart"))
    if pending:
        told["more_pending"] = tuple(pending)
    return told


def _updates(packages: HiveKey | None, rules: RecordRules) -> tuple[Update, ...]:
    """By package, the newest last."""
    found: dict[str, Update] = {}
    for own in packages.below() if packages else ():
        if not _PACKAGE.match(own.name):
            continue
        high, low = own.number("InstallTimeHigh"), own.number("InstallTimeLow")
        at = of_filetime((high << 32) | low) if high is not None and low is not None else None
        state = own.number("CurrentState")
        name = own.name.partition("~")[0]
        found[name] = Update(at, name, rules.package_states.get(state or 0, "not-told"))
    return tuple(sorted(found.values(), key=lambda u: u.at or 0))[-_MOST_UPDATES:]
