"""What a drive's read map adds to what is said of the drive."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from gatecheck.core.capture.drive import Drive, is_of
from gatecheck.core.capture.page import DECODED, Page
from gatecheck.core.findings import FAILING, NOTE, SIGN, Finding, ranked
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.scan.evidence import Scanned

_SEVERITY = {
    "clean": NOTE,
    "slow-patches": SIGN,
    "isolated-unreadable": SIGN,
    "spreading": FAILING,
    "one-head": FAILING,
    "stalled": FAILING,
}


def surface_of(device: str, pages: Iterable[Page]) -> Scanned | None:
    """The map of the drive that was read last, by the name of its page."""
    own = [
        p
        for p in pages
        if p.kind == "read-map" and p.status == DECODED and isinstance(p.values, Scanned) and is_of(p.device, device)
    ]
    found = max(own, key=lambda p: p.path, default=None)
    return found.values if found and isinstance(found.values, Scanned) else None


def with_surface(drive: Drive, pages: Iterable[Page], rules: Findings) -> Drive:
    """The drive with the verdict on its surface among the findings, and its weights for `read-scan`."""
    found = surface_of(drive.device, pages)
    if found is None:
        return drive
    finding = finding_of(found)
    return replace(
        drive,
        findings=tuple(ranked([*drive.findings, finding])),
        log_weights={**drive.log_weights, "read-scan": found.weights},
    )


def finding_of(found: Scanned) -> Finding:
    """The verdict on a surface."""
    surface = found.surface
    values = {
        "share": found.share,
        "unreadable": found.unreadable,
        "apart": found.is_apart,
        "places": len(surface.patches),
        "count": round(1 / surface.heads.share) if surface.heads else 0,
    }
    return Finding(f"surface-{surface.pattern}", "physical", _SEVERITY[surface.pattern], "read-map", None, values)
