"""Records of an installed system as the screen is sent them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from gatecheck.core.words.catalogue import Words
from gatecheck.server.volumes.check_reports import said
from gatecheck.server.volumes.wire import (
    RecordedSystemOut,
    RecordEventOut,
    RecordFindingOut,
    RecordLogOut,
    RecordRepairOut,
    RecordsOut,
)

RUNS, POWER, UPDATES, DISK, CRASHES, OTHER = "runs", "power", "updates", "disk", "crashes", "other"
"""rows of the time line"""
_ROWS = {
    "start": RUNS,
    "stop": RUNS,
    "power-lost": POWER,
    "unexpected-shutdown": POWER,
    "update-installed": UPDATES,
    "update-failed": UPDATES,
    "disk-error": DISK,
    "disk-failing": DISK,
    "file-system-error": DISK,
    "file-system-repair": DISK,
    "stop-code": CRASHES,
    "memory-error": CRASHES,
    "machine-check": CRASHES,
    "driver-failed": CRASHES,
}


def records_out(kept: Mapping[str, Any], words: Words, *, session: str) -> RecordsOut:
    """`kept`: the document as it was saved, ids and values; `session`: start of the live system now."""
    events = [
        RecordEventOut(
            at=e["at"],
            until=e.get("until"),
            kind=e["kind"],
            row=_ROWS.get(e["kind"], OTHER),
            source=e["source"],
            id=e["id"] or None,
            text=words.say(said(e["text"])),
            count=e["count"],
        )
        for e in kept["events"]
    ]
    known = {(e.kind, e.at) for e in events}
    events += [
        RecordEventOut(
            at=c["at"], until=None, kind="stop-code", row=CRASHES, source="", id=None, text=_crash(c), count=1
        )
        for c in kept["crashes"]
        if ("stop-code", c["at"]) not in known
    ]
    plan = kept.get("repairs") or {}
    return RecordsOut(
        at=kept["at"],
        by=kept["by"],
        sentence=words.say(said(kept["sentence"])),
        findings=[
            RecordFindingOut(id=f["id"], text=words.say(said(f["text"])), weight=f["weight"]) for f in kept["findings"]
        ],
        systems=[
            RecordedSystemOut(
                root=s["root"],
                name=s["name"] or "",
                version=s["version"],
                edition=s["edition"],
                build=s["build"] and str(s["build"]),
                installed=s["installed"],
                firmware=s["firmware"],
                zone=s["clock"]["zone"],
                universal=s["clock"]["universal"],
                installed_for=s["storage"]["installed_for"],
                last_good_start=s["last_good_start"],
                last_shutdown=s["last_shutdown"]["at"],
                clean=s["last_shutdown"]["clean"],
                hibernated=s["hibernated"],
                pending=[words.say(said(p)) for p in s["pending"]],
            )
            for s in kept["systems"]
        ],
        events=sorted((e for e in events if e.at), key=lambda e: str(e.at)),
        logs=[RecordLogOut(**log) for log in kept["logs"]],
        repairs=[
            RecordRepairOut(
                id=g["id"], what=words.say(said(g["what"])), doubts=[words.say(said(d)) for d in g["doubts"]]
            )
            for g in plan.get("groups", [])
        ],
        not_repaired=words.say(said(plan["refused"])) if plan.get("refused") else "",
        is_stale=kept["session"] != session,
    )


def _crash(own: Mapping[str, Any]) -> str:
    return " ".join(filter(None, (own["code"], own["name"], own["driver"])))
