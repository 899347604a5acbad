"""What a look found, as it is kept beside the parts of a ticket, and as the screen is sent it."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from gatecheck.adapters.durable_file import write_durably
from gatecheck.core.disk.plan import Write
from gatecheck.core.volume.gather import CELLS, CheckResult
from gatecheck.core.volume.people import HOME
from gatecheck.core.volume.repair_group import LOSES
from gatecheck.core.volume.tree import CLEAN, DAMAGE, DAMAGED, DIRTY, NOTE, VolumeFinding
from gatecheck.core.words.catalogue import Words
from gatecheck.core.words.said import Said, say, to_json
from gatecheck.server.volumes.wire import (
    EncryptionOut,
    RepairGroupOut,
    SetOut,
    ShareOut,
    VolumeFindingOut,
    VolumeLookOut,
    VolumeSystemOut,
)

_MOST_LEFT, _MOST_KINDS, _MOST_PEOPLE = 40, 5, 4
_SEVERITIES = (DAMAGE, "sign", NOTE)


def to_stored(found: CheckResult, *, by: str, at: str, session: str, base: int) -> dict[str, Any]:
    """Ids and values, nothing worded. `base`: byte of the disk at which the volume begins."""
    report, repair = found.report, found.repair
    assert report is not None
    return {
        "by": by,
        "at": at,
        "session": session,
        "report": {
            "kind": report.kind,
            "label": report.label,
            "state": report.state,
            "size": report.size,
            "used": report.used,
            "files": report.files,
            "findings": [
                {**to_json(f.text), "severity": f.severity, "count": f.count, "repairable": f.repairable}
                for f in report.findings
            ],
            "systems": [{"name": s.name, "version": s.version, "root": s.root} for s in report.systems],
            "check_minutes": report.check_minutes,
            "repair_minutes": report.repair_minutes,
        },
        "groups": [
            {
                "id": g.id,
                "what": to_json(g.what),
                "doubts": [to_json(d) for d in g.doubts],
                "is_ticked": g.id in found.lossless,
                "touches": list(g.touches),
                "writes": len(g.writes),
                "size": sum(len(w.data) for w in g.writes),
                "fields": [to_json(f) for f in dict.fromkeys(_Field(w.field) for w in g.writes)],
                "places": _places(g.writes, base, report.size),
            }
            for g in (repair.groups if repair else ())
        ],
        "state_after": repair.after.state if repair else report.state,
        "left": [to_json(f.text) for f in _left(found)[:_MOST_LEFT]],
        "refused": to_json(repair.refused) if repair and repair.refused else None,
        "people": [
            {
                "path": s.path,
                "kind": s.kind,
                "files": s.files,
                "size": s.size,
                "kinds": list(s.kinds.items())[:_MOST_KINDS],
            }
            for s in found.people
        ],
        "deleted": found.deleted,
        "fill": list(found.fill),
        "encryption": dict(found.encryption) if found.encryption else None,
        "held_in": dict(found.held_in) if found.held_in else None,
    }


class _Field(Said):
    def __hash__(self) -> int:
        return hash((self.id, str(self.values)))

    def __init__(self, said: Said) -> None:
        super().__init__(said.id, said.values)


def _left(found: CheckResult) -> tuple[VolumeFinding, ...]:
    return found.repair.left if found.repair else ()


def _places(writes: tuple[Write, ...], base: int, size: int) -> list[int]:
    """Cells of the ground plan."""
    cells = set()
    for own in writes:
        low, high = own.at - base, own.at + len(own.data) - 1 - base
        cells |= set(range(max(0, low * CELLS // max(size, 1)), min(CELLS - 1, high * CELLS // max(size, 1)) + 1))
    return sorted(cells)


def save(place: Path, kept: Mapping[str, Any]) -> None:
    """Whole under its name. Raises OSError."""
    write_durably(place, json.dumps(kept).encode())


def read(place: Path) -> dict[str, Any] | None:
    """None where there is none, or it is broken: then it is looked again."""
    try:
        found = json.loads(place.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return None
    return found if isinstance(found, dict) else None


def said(raw: Mapping[str, Any]) -> Said:
    return Said(str(raw["say"]), {name: _value(value) for name, value in (raw.get("values") or {}).items()})


def _value(value: object) -> object:
    if isinstance(value, Mapping) and "say" in value:
        return said(value)
    return [_value(v) for v in value] if isinstance(value, list) else value


def verdict(report: Mapping[str, Any]) -> Said:
    """One sentence."""
    # each is one thing, however many places it touches
    hurt = [f for f in report["findings"] if f["severity"] == DAMAGE]
    values = {
        "kind": report["kind"],
        "label": report["label"],
        "count": sum(f["count"] if f["say"].endswith(".more-alike") else 1 for f in hurt),
    }
    if report["state"] == CLEAN:
        return say("volume.verdict-clean", **values)
    if report["state"] == DIRTY:
        return say("volume.verdict-dirty", **values)
    if report["state"] == DAMAGED:
        return say("volume.verdict-damaged", **values)
    return (
        say("volume.verdict-locked", **values)
        if report["state"] == "locked"
        else say("volume.verdict-unreadable", **values)
    )


def _loses(group: dict[str, Any]) -> bool:
    return any(said(doubt).id in LOSES for doubt in group["doubts"])


def to_wire(kept: Mapping[str, Any], words: Words, *, session: str) -> VolumeLookOut:
    report = kept["report"]
    findings = sorted(report["findings"], key=lambda f: _SEVERITIES.index(f["severity"]))
    return VolumeLookOut(
        at=kept["at"],
        by=kept["by"],
        kind=report["kind"],
        label=report["label"],
        state=report["state"],
        verdict=words.say(verdict(report)),
        size=report["size"],
        used=report["used"],
        files=report["files"],
        findings=[
            VolumeFindingOut(
                id=f["say"].partition(".")[2],
                severity=f["severity"],
                text=words.say(said(f)),
                count=f["count"],
                repairable=f["repairable"],
            )
            for f in findings
        ],
        systems=[VolumeSystemOut(**s) for s in report["systems"]],
        groups=[
            RepairGroupOut(
                id=g["id"],
                what=words.say(said(g["what"])),
                doubts=[words.say(said(d)) for d in g["doubts"]],
                loses=_loses(g),
                is_ticked=g.get("is_ticked", not _loses(g)),
                touches=g["touches"],
                writes=g["writes"],
                size=g["size"],
                fields=[words.say(said(f)) for f in g["fields"]],
                places=g["places"],
            )
            for g in kept["groups"]
        ],
        state_after=kept["state_after"],
        left=[words.say(said(f)) for f in kept["left"]],
        refused=words.say(said(kept["refused"])) if kept["refused"] else "",
        check_minutes=report["check_minutes"],
        repair_minutes=report["repair_minutes"],
        people=[ShareOut(**s) for s in kept["people"]],
        deleted=kept["deleted"],
        fill=kept["fill"],
        is_stale=kept["session"] != session,
        encryption=EncryptionOut(**kept["encryption"]) if kept.get("encryption") else None,
        held_in=SetOut(**kept["held_in"]) if kept.get("held_in") else None,
    )


def place_of(folder: Path, source: str, first: int) -> Path:
    """Where the newest look at a volume is kept, in the ticket's folder of volumes."""
    return folder / f"look-{source}-{first}.json"


def systems_of(folder: Path, source: str, first: int) -> list[str]:
    """Installed systems by name and version, and the people on the same volume, as the newest look found them."""
    kept = read(place_of(folder, source, first))
    if kept is None:
        return []
    people = [str(s["path"]).rpartition("/")[2] for s in kept["people"] if s["kind"] == HOME][:_MOST_PEOPLE]
    return [*(f"{s['name']} {s['version']}".strip() for s in kept["report"]["systems"]), *people]
