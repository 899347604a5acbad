"""What a decoded page means, in one shape for drives and firmware."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Finding:
    """`severity`: note < sign < failing. `at` is the byte in the page, where there is one."""

    id: str
    kind: str
    severity: str
    text: str
    means: str
    page: str
    at: int | None = None
