"""How numbers are worded wherever the core speaks in sentences."""

from __future__ import annotations


def percent(p: float) -> str:
    """0.684 -> "68 %"; what is not quite certain never reads as 0 or 100."""
    if 0 < p < 0.005:
        return "under 1 %"
    if 0.995 < p < 1:
        return "over 99 %"
    return f"{p * 100:.0f} %"


def lower_first(name: str) -> str:
    """A name inside a sentence: its first letter small, unless it is an abbreviation."""
    return name if name[:2].isupper() else name[:1].lower() + name[1:]
