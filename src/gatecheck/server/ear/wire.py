"""What the Ear instrument is sent."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field

from gatecheck.server.wire import By, Wire


class HeardEventOut(Wire):
    """A single sound, or a part of a trace. `at`: seconds; `kind`: tick, clunk, thud, seek; surge, plateau, seek,
    inrush, dropped-rail."""

    at: float
    kind: str


class SoundWeightOut(Wire):
    outcome: str
    says: str
    share: float


class RecordingOut(Wire):
    """A recording with what is heard or seen in it. `outcome`: None where nothing can be told. `period`: seconds of its
    beat, None where there is none. `shape`: how loud it is (0 to 1), or the current in ampere of each rail, evenly
    through `seconds`."""

    sha256: str
    kind: str
    name: str
    by: str
    at: str
    seconds: float
    outcome: str | None
    verdict: str
    why: list[str]
    weights: list[SoundWeightOut]
    events: list[HeardEventOut]
    period: float | None
    regularity: float
    rpm: int | None
    level: float | None
    shape: dict[str, list[float]]
    form_factor: str | None


class EarOut(Wire):
    """`practice`: what the linked practice machine would sound like, where there is one; `silent_kind`: the drive makes
    no sound whatever its state. `slow`, `never`: seconds from which a drive is slow, is never ready."""

    recordings: list[RecordingOut]
    references: list[SoundWeightOut]
    practice: bool
    silent_kind: bool
    slow: float
    never: float


class ReadyIn(BaseModel):
    """A drive was ready after so many seconds; None: it was switched off without being so."""

    model_config = ConfigDict(extra="forbid")

    seconds: float | None = Field(default=None, ge=0, le=7200)
    waited: float = Field(ge=0, le=7200)
    by: By
