"""The firmware pages of a capture (path -> bytes), read with full distrust and judged together with its disks."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import asdict

from gatecheck.core.disk.gpt import read_gpt
from gatecheck.core.errors import DecodeError
from gatecheck.core.firmware.device_path import DevicePath
from gatecheck.core.firmware.judge import BootEntry, Firmware, entry_target, judge, target_of
from gatecheck.core.firmware.smbios import EntryPoint, Smbios, read_entry_point, read_smbios
from gatecheck.core.firmware.variables import GLOBAL, LoadOption, Variable, indications, read_variable
from gatecheck.core.manifest import read_manifest

Json = dict[str, object]
_VARIABLE = re.compile(r"(?:^|/)efivars/([^/]+)$")
_BOOT = re.compile(r"Boot([0-9A-F]{4})$")
_START = re.compile(r"(?:^|/)([^/]+)/lba0[^/]*$")


def is_firmware_page(path: str) -> bool:
    """True for pages that this reads."""
    return bool(_VARIABLE.search(path)) or path.endswith(("dmi/DMI", "dmi/smbios_entry_point"))


def read_firmware(files: Mapping[str, bytes]) -> Firmware | None:
    """Everything the firmware's pages say; None where the capture has none. Never raises for damaged pages."""
    if not any(is_firmware_page(path) for path in files):
        return None
    broken: dict[str, DecodeError] = {}
    variables: dict[str, Variable] = {}
    smbios: Smbios | None = None
    entry_point: EntryPoint | None = None
    page_of: dict[str, str] = {}
    for path in sorted(files):
        named = _VARIABLE.search(path)
        try:
            if named:
                variable = read_variable(named[1], files[path])
                key = variable.name if variable.guid == GLOBAL else f"{variable.name}-{variable.guid}"
                variables[key], page_of[key] = variable, path
            elif path.endswith("dmi/DMI"):
                smbios = read_smbios(files[path])
            elif path.endswith("dmi/smbios_entry_point"):
                entry_point = read_entry_point(files[path])
        except DecodeError as error:
            broken[path] = error
    order = tuple(_list(variables, "BootOrder"))
    complete = not any(_START.search(path) and page.status != "ok" for path, page in read_manifest(files).items())
    entries = tuple(_entries(variables, page_of, order, partition_guids(files), complete))
    secure, setup = _number(variables, "SecureBoot"), _number(variables, "SetupMode")
    wanted = _number(variables, "OsIndications")
    findings = judge(entries, order, None if secure is None else bool(secure), smbios, broken)
    return Firmware(
        variables, entries, order, _number(variables, "BootCurrent"), _number(variables, "BootNext"), _number(variables, "Timeout"),
        None if secure is None else bool(secure), None if setup is None else bool(setup), tuple(indications(wanted or 0)), smbios,
        entry_point, broken, tuple(findings), entry_target(entries) if entries else None,
    )  # fmt: skip


def partition_guids(files: Mapping[str, bytes]) -> set[str] | None:
    """GUIDs of all partitions on all disks whose first sectors were captured; None where none was."""
    starts = [data for path, data in files.items() if _START.search(path)]
    if not starts:
        return None
    guids: set[str] = set()
    for start in starts:
        try:
            guids |= {p.guid for p in read_gpt(start).partitions}
        except DecodeError:
            continue  # a disk without a table has no partitions to point at
    return guids


def _entries(variables: Mapping[str, Variable], page_of: Mapping[str, str], order: tuple[int, ...], guids: set[str] | None, complete: bool) -> list[BootEntry]:
    found = []
    for name, variable in variables.items():
        number = _BOOT.match(name)
        option = variable.value
        if number and isinstance(option, LoadOption):
            value = int(number[1], 16)
            found.append(BootEntry(
                value, order.index(value) if value in order else None, option.description, option.is_active, option.path.text,
                option.path.leads_to(), option.path.partition_guid, option.path.file, target_of(option, guids, complete=complete), page_of[name],
            ))  # fmt: skip
    return sorted(found, key=lambda e: (e.place is None, e.place, e.number))


def _number(variables: Mapping[str, Variable], name: str) -> int | None:
    value = variables[name].value if name in variables else None
    return value if isinstance(value, int) else None


def _list(variables: Mapping[str, Variable], name: str) -> list[int]:
    value = variables[name].value if name in variables else None
    return [v for v in value if isinstance(v, int)] if isinstance(value, list) else []


def firmware_document(firmware: Firmware) -> Json:
    """The firmware as JSON-ready values: entries in the order they are tried, settings, SMBIOS, findings, soft evidence."""
    smbios = firmware.smbios
    return {
        "entries": [{**asdict(e), "name": f"Boot{e.number:04X}"} for e in firmware.entries],
        "order": [f"Boot{n:04X}" for n in firmware.order],
        "current": _named(firmware.current), "next": _named(firmware.following), "timeout_s": firmware.timeout,
        "secure_boot": firmware.secure_boot, "setup_mode": firmware.setup_mode, "indications": list(firmware.indications),
        "smbios": {**asdict(smbios), "form": smbios.form} if smbios else None,
        "entry_point": asdict(firmware.entry_point) if firmware.entry_point else None,
        "variables": [
            {"name": v.name, "guid": v.guid, "attributes": v.attributes, "size": len(v.data), "value": _plain(v.value)}
            for v in firmware.variables.values()
        ],
        "broken": {page: str(error) for page, error in firmware.broken.items()},
        "findings": [asdict(f) for f in firmware.findings],
        "weights": firmware.weights,
    }  # fmt: skip


def _named(number: int | None) -> str | None:
    return None if number is None else f"Boot{number:04X}"


def _plain(value: object) -> object:
    if isinstance(value, LoadOption):
        return {"description": value.description, "active": value.is_active, "path": value.path.text, "optional": value.optional.hex()}
    if isinstance(value, DevicePath):
        return value.text
    return value.hex() if isinstance(value, bytes) else value
