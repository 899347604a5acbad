"""The decoded pages of a machine's firmware, put together and judged with what its disks hold."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field

from gatecheck.core.errors import DecodeError
from gatecheck.core.findings import finding_document
from gatecheck.core.firmware.boot_entry import BootEntry
from gatecheck.core.firmware.device_path import DevicePath
from gatecheck.core.firmware.judge import Firmware, entry_target, firmware_weights, judge, target_of
from gatecheck.core.firmware.smbios import EntryPoint, Smbios
from gatecheck.core.firmware.variables import GLOBAL, LoadOption, Variable, indications
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.words.catalogue import Words

Json = dict[str, object]
_MOST_ORDERED, _MOST_SHOWN = 1024, 2048
_BOOT = re.compile(r"Boot([0-9A-F]{4})$")


@dataclass(frozen=True, slots=True)
class FirmwarePages:
    """What could be decoded, each by the path of its page; `broken`: pages that could not be, with the reason."""

    variables: Mapping[str, Variable] = field(default_factory=dict)
    smbios: Smbios | None = None
    entry_point: EntryPoint | None = None
    broken: Mapping[str, DecodeError] = field(default_factory=dict)


def firmware_of(pages: FirmwarePages, partitions: set[str] | None, *, complete: bool, rules: Findings) -> Firmware:
    """Everything the firmware's pages say. `partitions`: GUIDs on all disks of the capture, None where no table was
    read; `complete`: every disk's table was."""
    named = {_key(v): (v, path) for path, v in sorted(pages.variables.items())}
    variables = {key: variable for key, (variable, _) in named.items()}
    order = tuple(_list(variables, "BootOrder")[:_MOST_ORDERED])
    entries = tuple(_entries(named, order, partitions, complete))
    secure, setup = _number(variables, "SecureBoot"), _number(variables, "SetupMode")
    wanted = _number(variables, "OsIndications")
    target = entry_target(entries) if entries else None
    return Firmware(
        variables=variables,
        entries=entries,
        order=order,
        current=_number(variables, "BootCurrent"),
        following=_number(variables, "BootNext"),
        timeout=_number(variables, "Timeout"),
        secure_boot=None if secure is None else bool(secure),
        setup_mode=None if setup is None else bool(setup),
        indications=tuple(indications(wanted or 0)),
        smbios=pages.smbios,
        entry_point=pages.entry_point,
        broken=pages.broken,
        findings=tuple(judge(entries, order, None if secure is None else bool(secure), pages.smbios, pages.broken)),
        entry_target=target,
        weights=firmware_weights(target, rules),
    )


def _key(variable: Variable) -> str:
    return variable.name if variable.guid == GLOBAL else f"{variable.name}-{variable.guid}"


def _entries(
    named: Mapping[str, tuple[Variable, str]], order: tuple[int, ...], guids: set[str] | None, complete: bool
) -> list[BootEntry]:
    found = []
    for name, (variable, page) in named.items():
        number = _BOOT.match(name)
        option = variable.value
        if number and isinstance(option, LoadOption):
            value = int(number[1], 16)
            found.append(
                BootEntry(
                    value,
                    order.index(value) if value in order else None,
                    option.description,
                    option.is_active,
                    option.path.text,
                    option.path.leads_to(),
                    option.path.partition_guid,
                    option.path.file,
                    target_of(option, guids, complete=complete),
                    page,
                )
            )
    return sorted(found, key=lambda e: (e.place is None, e.place, e.number))


def _number(variables: Mapping[str, Variable], name: str) -> int | None:
    value = variables[name].value if name in variables else None
    return value if isinstance(value, int) else None


def _list(variables: Mapping[str, Variable], name: str) -> list[int]:
    value = variables[name].value if name in variables else None
    return [v for v in value if isinstance(v, int)] if isinstance(value, list) else []


def firmware_document(firmware: Firmware, words: Words) -> Json:
    """The firmware as JSON-ready values: entries in the order they are tried, settings, SMBIOS, findings, soft
    evidence."""
    smbios = firmware.smbios
    return {
        "entries": [{**asdict(e), "name": f"Boot{e.number:04X}"} for e in firmware.entries],
        "order": [f"Boot{n:04X}" for n in firmware.order],
        "current": _named(firmware.current),
        "next": _named(firmware.following),
        "timeout_s": firmware.timeout,
        "secure_boot": firmware.secure_boot,
        "setup_mode": firmware.setup_mode,
        "indications": list(firmware.indications),
        "smbios": {**asdict(smbios), "form": smbios.form} if smbios else None,
        "entry_point": asdict(firmware.entry_point) if firmware.entry_point else None,
        "variables": [
            {"name": v.name, "guid": v.guid, "attributes": v.attributes, "size": len(v.data), "value": _plain(v.value)}
            for v in firmware.variables.values()
        ],
        "loaders": [asdict(loader) for loader in firmware.loaders],
        "broken": {page: str(error) for page, error in firmware.broken.items()},
        "findings": [finding_document(f, words) for f in firmware.findings],
        "weights": firmware.weights,
    }


def _named(number: int | None) -> str | None:
    return None if number is None else f"Boot{number:04X}"


def _plain(value: object) -> object:
    if isinstance(value, LoadOption):
        return {
            "description": value.description,
            "active": value.is_active,
            "path": value.path.text,
            "optional": value.optional[:_MOST_SHOWN].hex(),
        }
    if isinstance(value, DevicePath):
        return value.text
    return (
        value[:_MOST_SHOWN].hex()
        if isinstance(value, bytes)
        else value[:_MOST_ORDERED]
        if isinstance(value, list)
        else value
    )
