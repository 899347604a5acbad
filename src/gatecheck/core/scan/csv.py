"""A map, or its bad places, as CSV: the format that `gatecheck surface` reads."""

from __future__ import annotations

from gatecheck.core.scan.evidence import Scanned
from gatecheck.core.scan.map_page import MapPage
from gatecheck.core.scan.read import HEADER, STATES

_NAMES = {number: name for name, number in STATES.items()}


def map_csv(page: MapPage) -> str:
    """Every block, in the order read; of a very long map good neighbours stand as one."""
    blocks = page.blocks
    rows = zip(blocks.lba.tolist(), blocks.sectors.tolist(), blocks.ms.tolist(), blocks.state.tolist(), strict=True)
    return (
        ",".join(HEADER)
        + "\n"
        + "".join(f"{lba},{sectors},{ms:.2f},{_NAMES[state]}\n" for lba, sectors, ms, state in rows)
    )


def places_csv(scanned: Scanned, lives: list[str]) -> str:
    """The bad places with what lives there: first and last sector, kind, partition."""
    rows = [
        f'{p.first},{p.last},{p.kind},"{at.replace(chr(34), chr(39))}"\n'
        for p, at in zip(scanned.surface.patches, lives, strict=True)
    ]
    return "first,last,kind,lives_there\n" + "".join(rows)
