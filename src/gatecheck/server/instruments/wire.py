"""What the instruments send: settings, sightings, keys."""

from __future__ import annotations

from typing import Any

from gatecheck.server.wire import Wire


class SettingValueOut(Wire):
    """A value a row may stand at. `state`: what the row would be with it. `entry`: ready for the tape."""

    id: str
    name: str
    state: str
    entry: dict[str, Any]


class SettingRowOut(Wire):
    """A row of the settings sheet. `state`: fits, differs, unsure, not-shown, unread. `now`: after the changes made
    since."""

    id: str
    name: str
    gate: str
    check: str | None
    fix: str | None
    want: str | None
    why: str
    because: str
    values: list[SettingValueOut]
    found: str | None
    now: str | None
    state: str
    entry: int | None
    from_file: bool


class TogetherOut(Wire):
    """What several rows say together. `kind`: contradiction, root, hint."""

    id: str
    kind: str
    rows: list[str]
    text: str
    means: str
    elsewhere: str


class WalkOut(Wire):
    row: str
    tried: list[str]
    next: str | None
    restore: str | None


class WayOut(Wire):
    move: str
    name: str
    how: str
    minutes: float


class LeftOut(Wire):
    """A setting at handover: as found and as left."""

    row: str
    name: str
    found: str | None
    left: str | None
    tried: list[str]


class BootEntryOut(Wire):
    """A captured boot entry in the order the firmware tries it."""

    name: str
    description: str
    active: bool
    place: int | None
    leads_to: str
    target: str
    path: str


class CapturedFirmwareOut(Wire):
    file: str
    sha256: str
    entries: list[BootEntryOut]
    secure_boot: bool | None
    maker: str
    product: str
    firmware: str
    findings: list[str]


class SettingsOut(Wire):
    """The settings sheet; on a machine without a text setup `rows` is empty and `ways` says what there is."""

    rows: list[SettingRowOut]
    together: list[TogetherOut]
    walks: list[WalkOut]
    walkable: dict[str, list[str]]
    ways: list[WayOut]
    left: list[LeftOut]
    captured: CapturedFirmwareOut | None


class VantageOut(Wire):
    id: str
    name: str
    check: str
    asks: str


class SeenOut(Wire):
    id: str
    name: str
    entry: dict[str, Any]


class CellOut(Wire):
    at: str
    value: str | None
    entry: int | None
    from_file: bool
    note: str
    choices: list[SeenOut]


class DriveLineOut(Wire):
    what: str
    name: str
    cells: list[CellOut]


class PatternOut(Wire):
    id: str
    text: str
    means: str
    gate: str
    faults: list[str]
    elsewhere: str
    """what the suspects say instead, where they do; else empty"""


class SightingsOut(Wire):
    """Which drive is seen where, and what the pattern means. `more`: kinds of drive that may be added to the grid."""

    vantages: list[VantageOut]
    lines: list[DriveLineOut]
    more: list[DriveLineOut]
    pattern: PatternOut | None


class KeyOut(Wire):
    """A key to try. `level`: the nearest that has tried it (model, series, maker, platform, general)."""

    key: str
    p: float
    level: str
    worked: int
    tried: int


class PurposeOut(Wire):
    purpose: str
    name: str
    keys: list[KeyOut]


class KeysOut(Wire):
    """Keys for one machine, best first, for each thing they open."""

    machine: str
    platform: str
    purposes: list[PurposeOut]


class PrintedCodeOut(Wire):
    """What the shop knows of a code. `level`: how near it was seen (model, series, maker); `turned_out`: fault -> on
    how many of the `settled` tickets."""

    code: str
    level: str
    tickets: int
    settled: int
    turned_out: list[tuple[str, int]]


class CodesOut(Wire):
    """The code that was asked for, as far as it is known, and the codes that this maker's machines have printed
    here."""

    known: PrintedCodeOut | None
    seen: list[str]


class BookModelOut(Wire):
    maker: str
    model: str
    platform: str
    tries: int
