"""The firmware's walk over a disk: what it tries, in order, what is found on the way, and where it stops."""

from __future__ import annotations

from dataclasses import dataclass, field

from gatecheck.core.words.said import Said, say


@dataclass(frozen=True, slots=True)
class Stop:
    """Where a walk ends: gate, finding, place."""

    gate: str
    id: str
    where: str


@dataclass(frozen=True, slots=True)
class WalkFinding:
    """One finding on the way. `text` in words yet to be said."""

    id: str
    gate: str
    where: str

    @property
    def text(self) -> Said:
        return say(f"bootpath.{self.id}", where=self.where)


@dataclass(slots=True)
class Walk:
    """Collects steps and findings; `ended` is the gate it stopped at."""

    path: list[Said] = field(default_factory=list)
    findings: list[WalkFinding] = field(default_factory=list)
    ended: str | None = None

    def step(self, name: str, **values: object) -> None:
        """What is tried, or found to be there; worded in words/."""
        self.path.append(Said(f"bootpath.step-{name}", values))

    def find(self, name: str, gate: str, where: str) -> None:
        own = WalkFinding(name, gate, where)
        if own not in self.findings:
            self.findings.append(own)

    def stop(self, gate: str, name: str, where: str) -> None:
        self.find(name, gate, where)
        self.ended = gate
