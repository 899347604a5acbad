"""A mending plan: byte ranges with what would stand there, why, and what is doubtful about it. Nothing here writes."""

from __future__ import annotations

from dataclasses import dataclass

from gatecheck.core.words.said import Said


@dataclass(frozen=True, slots=True)
class Write:
    """`at`: byte on the disk; `data`: what is to stand there; `field`: what that is."""

    at: int
    data: bytes
    field: Said


@dataclass(frozen=True, slots=True)
class RepairPlan:
    """`writes` in the order in which they are made: what is pointed to before what points. `rivals`: plans of one name
    in it exclude each other."""

    id: str
    what: Said
    why: Said
    writes: tuple[Write, ...]
    doubts: tuple[Said, ...] = ()
    rivals: str = ""
    boots_after: bool = False

    @property
    def pairs(self) -> list[tuple[int, bytes]]:
        return [(w.at, w.data) for w in self.writes]


def write(at: int, data: bytes, name: str, **values: object) -> Write:
    return Write(at, bytes(data), Said(f"mend.field-{name}", values))


def what(name: str, **values: object) -> Said:
    return Said(f"mend.{name}-what", values)


def why(name: str, **values: object) -> Said:
    return Said(f"mend.{name}-why", values)


def doubt(name: str, **values: object) -> Said:
    return Said(f"mend.doubt-{name}", values)
