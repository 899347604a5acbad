"""What a look at a volume says to the check `volume-look`."""

from __future__ import annotations

from typing import Any

from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.volume.check import Report
from gatecheck.core.volume.tree import CLEAN, DAMAGE, DAMAGED, DIRTY, LOCKED, UNREADABLE
from gatecheck.core.words.said import say

CHECK = "volume-look"
FACT = "volume_repair"
"""what a repair can do for the volume: how much of its damage is put right for certain"""


def repair_says(report: Report) -> str | None:
    """The value of that fact; None where nothing is damaged."""
    damage = [f for f in report.findings if f.severity == DAMAGE]
    sure = sum(f.repairable for f in damage)
    return None if not damage else "all-of-it" if sure == len(damage) else "part-of-it" if sure else "none-of-it"


def volume_says(rules: Findings, report: Report, *, is_main: bool) -> dict[str, Any] | None:
    """Move, weights, the reason as an id and values; None where this volume says nothing of why the machine does not
    start: one without a system that is not the main one either, or one of a kind that is not read. Nothing of it names
    a file: the tape outlives the customer. `is_main`: the largest of the machine's own disk."""
    if any(f.id == "no-reader" for f in report.findings) or not (report.systems or is_main):
        return None
    wrong = sum(f.count for f in report.findings if f.severity == DAMAGE)
    values = {"kind": report.kind, "count": wrong}
    reasons = {
        CLEAN: say("evidence.volume-clean", **values),
        DIRTY: say("evidence.volume-dirty", **values),
        DAMAGED: say("evidence.volume-damaged", **values),
        LOCKED: say("evidence.volume-locked", **values),
        UNREADABLE: say("evidence.volume-unreadable", **values),
    }
    return {"move": CHECK, "weights": dict(rules.weights[CHECK][report.state]), "note": reasons[report.state]}
