"""What a decoded page means, in one shape for drives, disks and firmware: an id and values, worded by the catalogue."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from gatecheck.core.words.catalogue import Words
from gatecheck.core.words.said import Said, Value

PHYSICAL, CONNECTION, WEAR, AGE, HEAT, READING, FIRMWARE = (
    "physical",
    "connection",
    "wear",
    "age",
    "heat",
    "reading",
    "firmware",
)
NOTE, SIGN, FAILING = "note", "sign", "failing"
_RANK = {FAILING: 0, SIGN: 1, NOTE: 2}


@dataclass(frozen=True, slots=True)
class Finding:
    """`severity`: note < sign < failing. `page`: the kind of page, or its path, it rests on; `at`: the byte in it,
    where there is one. `words`: key of its sentences where they are not the finding's own."""

    id: str
    kind: str
    severity: str
    page: str
    at: int | None = None
    values: Mapping[str, Value] = field(default_factory=dict)
    words: str = ""

    @property
    def text(self) -> Said:
        """What was found."""
        return Said(f"finding.{self.words or self.id}.text", self.values)

    @property
    def means(self) -> Said:
        """What it means for the call."""
        return Said(f"finding.{self.words or self.id}.means", self.values)


def ranked(findings: Iterable[Finding]) -> list[Finding]:
    """The weightiest first."""
    return sorted(findings, key=lambda f: _RANK[f.severity])


def finding_document(finding: Finding, words: Words) -> dict[str, object]:
    """A finding as JSON-ready values, worded."""
    return {
        "id": finding.id,
        "kind": finding.kind,
        "severity": finding.severity,
        "text": words.say(finding.text),
        "means": words.say(finding.means),
        "page": finding.page,
        "at": finding.at,
    }
