"""What the Path instrument is sent."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field

from gatecheck.server.wire import By, Wire


class PathDiskOut(Wire):
    """A disk whose start was read. `device`: the drive's name; `disk`: the disk's own."""

    device: str
    disk: str
    name: str


class PieceOut(Wire):
    """A partition on the ruler. First and last LBA, both inside; `holds`: what stands in it, in words; `systems`:
    installed ones and whose they are, where its volume was looked at."""

    number: int
    first: int
    last: int
    name: str
    holds: str
    systems: list[str]


class SpanOut(Wire):
    """First and last LBA, both inside."""

    first: int
    last: int


class PathStepOut(Wire):
    """One step of the walk. `reads`: what was read to get there."""

    text: str
    reads: list[SpanOut]


class MarkOut(Wire):
    at: int
    size: int
    name: str


class StopOut(Wire):
    """Where the walk ends, unfolded to its bytes. `hex` is empty where the sector could not be read: then `missing`
    says why."""

    gate: str
    text: str
    lba: int | None
    structure: str
    hex: str
    missing: str
    marks: list[MarkOut]


class PlanWriteOut(Wire):
    """`at`: byte of the disk, None of a UEFI variable; `before` and `after`: the first bytes of it in hex, from the
    first that differs (`skipped` bytes in)."""

    at: int | None
    length: int
    field: str
    skipped: int
    before: str
    after: str


class PathPlanOut(Wire):
    """`fix`: the move whose outcome tells how it went; `held`: why it is held back now, empty where it is not."""

    id: str
    what: str
    why: str
    doubts: list[str]
    writes: list[PlanWriteOut]
    boots_after: bool
    fix: str
    fix_name: str
    held: str


class MendOut(Wire):
    """A mending that was ordered. `state`: waiting, done, refused, failed, cancelled; `reverts`: it takes another back;
    `taken_back`: another takes this back."""

    order: int
    plan: str
    what: str
    fix: str
    state: str
    detail: str
    at: str
    by: str
    size: int
    reverts: int | None
    taken_back: bool
    can_take_back: bool
    """it was in a probe's hands, so it may be written, whatever was heard of it"""


class PathOut(Wire):
    """`boots`: None where the verdict does not stand yet; `unread`: sectors that it lacks; `reading`: an order that
    reads them runs."""

    disks: list[PathDiskOut]
    device: str
    disk: str
    mode: str
    mode_told: bool
    sector: int
    sectors: int
    scheme: str
    pieces: list[PieceOut]
    tables: list[PieceOut]
    steps: list[PathStepOut]
    last_reads: list[SpanOut]
    boots: bool | None
    verdict: str
    findings: list[str]
    stop: StopOut | None
    plans: list[PathPlanOut]
    searches: bool
    unread: int
    reading: int | None
    held: str
    linked: bool
    entries: bool
    secure: bool
    mends: list[MendOut]


class ReadPathIn(BaseModel):
    model_config = ConfigDict(extra="forbid")

    device: str = Field(min_length=1, max_length=40)
    by: By


class MendIn(BaseModel):
    model_config = ConfigDict(extra="forbid")

    device: str = Field(min_length=1, max_length=40)
    plan: str = Field(min_length=1, max_length=60)
    mode: str = Field(default="", pattern="^(|uefi|bios)$")
    by: By


class TakeBackIn(BaseModel):
    model_config = ConfigDict(extra="forbid")

    order: int
    by: By
