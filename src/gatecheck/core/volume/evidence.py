"""What a look at a volume says to the check `volume-look`."""

from __future__ import annotations

from typing import Any

from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.volume.check import Report
from gatecheck.core.volume.tree import DAMAGE
from gatecheck.core.words.said import say

CHECK = "volume-look"


def volume_says(rules: Findings, report: Report, *, is_main: bool) -> dict[str, Any] | None:
    """Move, weights, the reason as an id and values; None where this volume says nothing of why the machine does not start: one without a system that is not the main one
    either, or one of a kind that is not read. Nothing of it names a file: the tape outlives the customer. `is_main`: the largest of the machine's own disk."""
    if any(f.id == "no-reader" for f in report.findings) or not (report.systems or is_main):
        return None
    wrong = sum(f.count for f in report.findings if f.severity == DAMAGE)
    reason = say(f"evidence.volume-{report.state}", kind=report.kind, count=wrong)
    return {"move": CHECK, "weights": dict(rules.weights[CHECK][report.state]), "note": reason}
