"""What lives at a place of a volume."""

from __future__ import annotations

from dataclasses import dataclass

from gatecheck.core.words.said import Said

NOTHING, FILE, CATALOGUE, BOOT = "nothing", "file", "catalogue", "boot"


@dataclass(frozen=True, slots=True)
class Place:
    """`path`: from the volume's root, parts joined by `/`; None where it is no file's or folder's."""

    structure: Said
    path: str | None
    stakes: str
