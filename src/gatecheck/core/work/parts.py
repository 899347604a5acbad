"""Which drives of the shop's shelf fit this machine, and why the others do not; and the shelf as a CSV file."""

from __future__ import annotations

import csv
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.belief.facts import FactValue
from gatecheck.core.errors import GateCheckError
from gatecheck.core.knowledge.work import DriveSlot
from gatecheck.core.words.said import Said, say
from gatecheck.core.work.job import holds

KINDS, KEYS = ("drive", "cable"), ("", "m", "b", "b+m")
INTERFACES = ("sata", "nvme", "emmc", "usb", "other")
FORMS = ("2.5", "3.5", "m2", "soldered", "other")
COLUMNS = ("kind", "name", "interface", "form", "key", "height_mm", "length_mm", "flash", "size_gb", "price", "count")
_MOST_LINES, _LONGEST, _LARGEST = 5000, 120, 10**7
_SAME_SIZE = 0.10
"""a drive of nearly the size of the old one counts as the same"""


@dataclass(frozen=True, slots=True)
class Item:
    """A drive or cable of the shelf. Sizes in mm and GB, 0 where they say nothing; `left`: how many nobody has
    reserved."""

    id: int
    kind: str
    name: str
    interface: str
    form: str
    key: str
    height_mm: float
    length_mm: float
    flash: bool
    size_gb: float
    price: float
    count: int
    left: int


@dataclass(frozen=True, slots=True)
class Fit:
    """`why`: what keeps it from fitting, or what it brings where it fits."""

    item: Item
    fits: bool
    why: tuple[Said, ...]


@dataclass(frozen=True, slots=True)
class Wanted:
    """What the machine takes. `used_gb`: what has to go on it, None where nobody knows; `old_gb`: the old drive's
    size."""

    interface: str
    form: str
    key: str
    height_mm: float | None
    length_mm: float | None
    used_gb: float | None
    old_gb: float | None
    was_spinning: bool


def wanted_of(slots: Sequence[DriveSlot], facts: Mapping[str, FactValue]) -> Wanted:
    """What the facts say of the machine's slot; what somebody measured (`slot_…`) stands above what its kind usually
    takes."""
    context = {name: str(value) for name, value in facts.items()}
    slot = next((s for s in slots if holds(s.when, context)), None)
    return Wanted(
        str(facts.get("slot_interface") or (slot.interface if slot else "")),
        str(facts.get("slot_form") or (slot.form if slot else "")),
        slot.key if slot else "",
        _number(facts.get("slot_height")) or (slot.height if slot else None),
        _number(facts.get("slot_length")) or (slot.length if slot else None),
        _number(facts.get("used_gb")),
        _number(facts.get("drive_size_gb")),
        facts.get("drive_kind") == "hdd",
    )


def _number(value: FactValue) -> float | None:
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) and value > 0 else None


def fitting(items: Sequence[Item], wanted: Wanted) -> list[Fit]:
    """Drives that fit first: the same size first, flash before spinning, then the cheaper one; then the others with why
    not."""
    found = [_fit(item, wanted, items) for item in items if item.kind == "drive"]
    return sorted(
        found, key=lambda f: (not f.fits, _apart(f.item, wanted), not f.item.flash, f.item.price, f.item.name)
    )


def _apart(item: Item, wanted: Wanted) -> float:
    if not wanted.old_gb:
        return 0.0
    apart = abs(item.size_gb - wanted.old_gb) / wanted.old_gb
    return 0.0 if apart <= _SAME_SIZE else apart


def _fit(item: Item, wanted: Wanted, items: Sequence[Item]) -> Fit:
    against: list[Said] = []
    if wanted.interface and item.interface != wanted.interface:
        against.append(say("work.other-interface", has=item.interface, wants=wanted.interface))
    elif wanted.form and item.form != wanted.form and not (item.form == "2.5" and wanted.form == "3.5"):
        against.append(say("work.other-form", has=item.form, wants=wanted.form))
    if wanted.key and item.key and wanted.key not in item.key.split("+"):
        against.append(say("work.other-key", has=item.key, wants=wanted.key))
    if wanted.height_mm and item.height_mm > wanted.height_mm:
        against.append(say("work.too-high", has=item.height_mm, takes=wanted.height_mm))
    if wanted.length_mm and item.length_mm > wanted.length_mm:
        against.append(say("work.too-long", has=item.length_mm, takes=wanted.length_mm))
    needed = wanted.used_gb or wanted.old_gb
    if needed and item.size_gb < needed:
        against.append(say("work.too-small" if wanted.used_gb else "work.smaller", has=item.size_gb, used=needed))
    if item.left < 1:
        against.append(say("work.none-left"))
    if against:
        return Fit(item, False, tuple(against))
    return Fit(item, True, _brings(item, wanted, items))


def _brings(item: Item, wanted: Wanted, items: Sequence[Item]) -> tuple[Said, ...]:
    found: list[Said] = []
    if wanted.used_gb:
        found.append(say("work.room", times=item.size_gb / wanted.used_gb, used=wanted.used_gb))
    if item.form == "2.5" and wanted.form == "3.5":
        found.append(say("work.adapter"))
    if item.flash and wanted.was_spinning:
        spinning = [
            i
            for i in items
            if not i.flash and i.kind == "drive" and i.interface == item.interface and i.size_gb == item.size_gb
        ]
        more = item.price - min(i.price for i in spinning) if spinning else None
        found.append(say("work.flash-for-disk") if more is None else say("work.flash-for-disk-at", more=more))
    return tuple(found)


# --- the shelf as a file ---------------------------------------------------------------------------------------------


class ShelfError(GateCheckError):
    """Lines of a shelf's file that cannot be used; nothing of it was taken."""

    def __init__(self, faults: Sequence[tuple[int, str, str, str]]) -> None:
        """`faults`: (line, column, expected, got)."""
        self.faults = tuple(faults)
        said = "; ".join(
            f"line {line}, {column}: expected {expected}, got {got}" for line, column, expected, got in faults[:8]
        )
        super().__init__(said + (f"; and {len(faults) - 8} more lines" if len(faults) > 8 else ""))


def read_shelf(text: str) -> list[Item]:
    """CSV with a header of COLUMNS (any order, `count` and measures may be left out) -> items without ids. Raises
    ShelfError, naming each line."""
    rows = csv.reader(
        text.removeprefix("\ufeff").splitlines(keepends=True),
        delimiter=";" if text.count(";") > text.count(",") else ",",
    )
    faults: list[tuple[int, str, str, str]] = []
    items: list[Item] = []
    header: list[str] = []
    try:
        for row in rows:
            if not any(cell.strip() for cell in row):
                continue
            if not header:
                header = [cell.strip().lower() for cell in row]
                missing = [c for c in ("name", "interface", "form", "size_gb", "price") if c not in header]
                unknown = [c for c in header if c not in COLUMNS]
                if missing or unknown or len(set(header)) < len(header):
                    raise ShelfError(
                        [
                            (
                                rows.line_num,
                                "header",
                                f"the columns {', '.join(COLUMNS)}, each once",
                                ", ".join(header)[:100],
                            )
                        ]
                    )
            elif rows.line_num > _MOST_LINES:
                raise ShelfError([(rows.line_num, "file", f"at most {_MOST_LINES} lines", "more")])
            else:
                items += _item(dict(zip(header, row, strict=False)), len(row) - len(header), rows.line_num, faults)
    except csv.Error as error:
        faults.append((rows.line_num, "row", "comma-separated values", str(error)))
    if not header:
        faults.append((1, "header", f"the columns {', '.join(COLUMNS)}", "an empty file"))
    if faults:
        raise ShelfError(faults)
    return items


def _item(row: Mapping[str, str], more: int, line: int, faults: list[tuple[int, str, str, str]]) -> list[Item]:
    before = len(faults)
    if more:
        faults.append(
            (line, "row", "as many cells as the header has", f"{abs(more)} {'more' if more > 0 else 'fewer'}")
        )
    else:
        name = row.get("name", "").strip()
        if not 0 < len(name) <= _LONGEST:
            faults.append((line, "name", f"a text of at most {_LONGEST} letters", repr(name[:40])))
        kind = _one(row, "kind", KINDS, line, faults, "drive")
        interface, form = _one(row, "interface", INTERFACES, line, faults), _one(row, "form", FORMS, line, faults)
        key = _one(row, "key", KEYS, line, faults)
        flash = _one(row, "flash", ("yes", "no"), line, faults, "no")
        numbers = {
            c: _measure(row, c, line, faults, c in ("size_gb", "price") and kind == "drive")
            for c in ("height_mm", "length_mm", "size_gb", "price", "count")
        }
        if numbers["count"] != int(numbers["count"]):
            faults.append((line, "count", "a whole number", repr(row["count"])))
    if len(faults) > before:
        return []
    count = int(numbers["count"]) if row.get("count", "").strip() else 1
    return [
        Item(
            0,
            kind,
            name,
            interface,
            form,
            key,
            numbers["height_mm"],
            numbers["length_mm"],
            flash == "yes",
            numbers["size_gb"],
            numbers["price"],
            count,
            count,
        )
    ]


def _one(
    row: Mapping[str, str],
    column: str,
    known: Sequence[str],
    line: int,
    faults: list[tuple[int, str, str, str]],
    default: str = "",
) -> str:
    value = row.get(column, "").strip().lower() or default
    if value not in known:
        faults.append((line, column, f"one of {', '.join(known)}", repr(value[:40])))
    return value


def _measure(
    row: Mapping[str, str], column: str, line: int, faults: list[tuple[int, str, str, str]], wanted: bool
) -> float:
    text = row.get(column, "").strip()
    if not text and not wanted:
        return 0.0
    try:
        value = float(text)
    except ValueError:
        value = -1.0
    if not 0 <= value <= _LARGEST:
        faults.append((line, column, f"a number from 0 to {_LARGEST}", repr(text[:40])))
        return 0.0
    return value


def write_shelf(items: Sequence[Item]) -> str:
    """The same file, which `read_shelf` reads back."""
    lines: list[str] = []

    class Lines:
        def write(self, line: str) -> None:
            lines.append(line)

    writer = csv.writer(Lines())
    writer.writerow(COLUMNS)
    for i in items:
        writer.writerow(
            [
                i.kind,
                i.name,
                i.interface,
                i.form,
                i.key,
                f"{i.height_mm:g}",
                f"{i.length_mm:g}",
                "yes" if i.flash else "no",
                f"{i.size_gb:g}",
                f"{i.price:g}",
                i.count,
            ]
        )
    return "".join(lines)
