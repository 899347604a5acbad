"""A group of a repair: what a person takes or leaves as one."""

from __future__ import annotations

from dataclasses import dataclass

from gatecheck.core.disk.plan import Write
from gatecheck.core.words.said import Said

LOSES = (
    "repair.doubt-given-up",
    "repair.doubt-nameless",
    "repair.doubt-shortened",
    "repair.doubt-attributes",
)


@dataclass(frozen=True, slots=True)
class RepairGroup:
    """`touches`: files and folders in words, at most a few; `doubts`: what is lost, or not certain."""

    id: str
    what: Said
    writes: tuple[Write, ...]
    doubts: tuple[Said, ...] = ()
    touches: tuple[str, ...] = ()

    @property
    def loses(self) -> bool:
        """Something that is on the volume is gone afterwards: records, names, ends of files."""
        return any(doubt.id in LOSES for doubt in self.doubts)

    @property
    def pairs(self) -> list[tuple[int, bytes]]:
        return [(w.at, w.data) for w in self.writes]


def group(
    name: str,
    writes: list[tuple[int, bytes]],
    field: str,
    *,
    doubts: tuple[str, ...] = (),
    touches: tuple[str, ...] = (),
    **values: object,
) -> RepairGroup:
    return RepairGroup(
        name,
        Said(f"repair.{name}", values),
        tuple(Write(at, data, Said(f"repair.field-{field}")) for at, data in writes),
        tuple(Said(f"repair.doubt-{d}") for d in doubts),
        touches[:20],
    )
