"""What records say to triage: weights over the outcomes of `system-records`, and nothing where nothing was read."""

from __future__ import annotations

import pytest

from gatecheck.adapters.shipped_tables import record_rules, shipped_model
from gatecheck.core.records.evidence import CHECK, TELLS, records_say
from gatecheck.core.records.report import RecordFinding, Records
from gatecheck.core.words.said import say


def _records(*findings: tuple[str, float], good: float | None = 1.0e9, whole: bool = True) -> Records:
    own = Records("", last_good_start=good, log_whole=whole)
    own.findings = [RecordFinding(id_, "", weight, say(f"records.{id_}")) for id_, weight in findings]
    return own


@pytest.mark.parametrize(
    ("found", "outcome", "at_least"),
    [
        ([_records()], "started-well", 0.85),
        ([_records(("update-before", 0.8))], "update-before", 0.75),
        ([_records(("driver-not-started", 0.9), ("power-cuts", 0.3))], "driver-off", 0.6),
        ([_records(("disk-errors", 0.95))], "disk-errors", 0.9),
        ([_records(("power-cuts", 0.3))], "started-well", 0.5),
        ([_records(("hibernated", 0.3))], "started-well", 0.85),
        ([_records(), _records(("memory-errors", 0.9))], "memory-errors", 0.85),
    ],
)
def test_what_was_found_speaks_for_its_outcome(found: list[Records], outcome: str, at_least: float) -> None:
    said = records_say(found)
    assert said is not None
    assert said["move"] == CHECK
    assert sum(said["weights"].values()) == pytest.approx(1.0)
    assert max(said["weights"], key=lambda o: said["weights"][o]) == outcome
    assert said["weights"][outcome] >= at_least


@pytest.mark.parametrize("found", [[], [_records(good=None)], [_records(whole=False)]])
def test_what_was_not_read_says_nothing(found: list[Records]) -> None:
    assert records_say(found) is None


def test_every_finding_and_outcome_is_known() -> None:
    assert set(TELLS) <= set(record_rules().weights)
    assert set(TELLS.values()) <= set(shipped_model().knowledge.checks[CHECK].outcomes)
