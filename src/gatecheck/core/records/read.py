"""Records of every system of a volume."""

from __future__ import annotations

from collections.abc import Sequence

from gatecheck.core.records.linux import read_linux
from gatecheck.core.records.linux_report import Volumes, linux_records
from gatecheck.core.records.macos import macos_records
from gatecheck.core.records.report import Records, windows_records
from gatecheck.core.records.rules import RecordRules
from gatecheck.core.records.source import Files
from gatecheck.core.records.windows import roots


def read_records(
    files: Files, rules: RecordRules, controllers: Sequence[str] = (), volumes: Volumes | None = None
) -> list[Records]:
    """What each system there says of itself. `controllers`: PCI classes (six hex digits) of the machine that it is
    started on; `volumes`: what is on its disk, as for `linux_records`."""
    modes = tuple(dict.fromkeys(mode for c in controllers if (mode := rules.mode_of(c))))
    found = [windows_records(files, root, modes, rules) for root in roots(files)]
    linux = read_linux(files, rules)
    mac = macos_records(files, rules)
    found += [linux_records(linux, rules, volumes)] if linux is not None else []
    return [*found, *([mac] if mac is not None else [])]
