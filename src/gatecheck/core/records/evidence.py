"""What an installed system's records say to the check `system-records`, as weights over its outcomes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from gatecheck.core.records.report import Records

CHECK = "system-records"
TELLS: dict[str, str] = {
    "update-before": "update-before",
    "driver-not-started": "driver-off",
    "no-boot-driver": "driver-off",
    "disk-errors": "disk-errors",
    "memory-errors": "memory-errors",
    "power-cuts": "power-cuts",
    "repair-tried": "repair-tried",
    "kernel-without-modules": "update-before",
    "kernel-without-initrd": "update-before",
    "packages-half-done": "update-before",
}
"""finding -> outcome that it speaks for; the others say nothing of why it does not start"""
_HEAVY = 0.5
"""a finding that weighs as much is no quiet start, whatever it speaks for"""
_QUIET = 0.5
"""beside findings, how much nothing unusual weighs; the more, the less single findings carry"""


def records_say(found: Sequence[Records]) -> dict[str, Any] | None:
    """Move, weights and the reason, as an entry of the tape; None where no record of a start was read: what is torn or
    not there says nothing, least of all that all is well."""
    read = [own for own in found if own.last_good_start is not None or own.findings]
    if not read:
        return None
    told: dict[str, float] = {}
    for own in read:
        for finding in own.findings:
            outcome = TELLS.get(finding.id)
            if outcome is not None:
                told[outcome] = max(told.get(outcome, 0.0), finding.weight)
    if not told:
        whole = all(own.log_whole for own in read)
        heavy = any(f.weight >= _HEAVY for own in read for f in own.findings)
        if heavy or not whole or all(own.last_good_start is None for own in read):
            return None
        return {"move": CHECK, "weights": {"started-well": 0.9, "nothing-told": 0.1}, "note": read[0].sentence}
    quiet = _QUIET * (1.0 - max(told.values()))
    whole_sum = sum(told.values()) + quiet
    weights = {outcome: round(weight / whole_sum, 4) for outcome, weight in told.items()}
    if quiet:
        weights["started-well"] = round(1.0 - sum(weights.values()), 4)
    else:
        first = max(weights, key=lambda o: weights[o])
        weights[first] = round(weights[first] + 1.0 - sum(weights.values()), 4)
    findings = [f for own in read for f in own.findings if f.id in TELLS]
    return {"move": CHECK, "weights": weights, "note": max(findings, key=lambda f: f.weight).text}
