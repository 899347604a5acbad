"""Handing over and what it teaches, on the wire."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field

from gatecheck.server.wire import Wire


class GuessOut(Wire):
    """A set of faults the machine may have come in with, in the light of the whole tape."""

    faults: list[str]
    p: float


class RateOut(Wire):
    fault: str
    shipped: float
    counted: float
    blended: float


class BinOut(Wire):
    low: float
    high: float
    count: int
    predicted: float
    observed: float


class LearningOut(Wire):
    """What the shop's own tickets taught, and how the odds held."""

    lessons: int
    comebacks: int
    weight: float = Field(description="The shipped odds weigh as much as so many tickets")
    last_reset: str | None
    rates: list[RateOut]
    calls: list[BinOut]
    suspects: list[BinOut]
    brier: float | None


class HandOverIn(BaseModel):
    """The machine goes back. `proven`: faults it turned out to have; null where nobody can say."""

    model_config = ConfigDict(extra="forbid")
    proven: list[str] | None = Field(default=None, max_length=3)
    waive: str | None = Field(
        default=None, min_length=1, max_length=400, description="Why it goes back though lines of its proof are open"
    )
    by: str = Field(default="?", min_length=1, max_length=20)
