"""What is sent of a ticket's files: drives, findings, logs, trend, bytes."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict, Field

from gatecheck.server.wire import By, Wire


class WeighIn(BaseModel):
    """Weigh one drive of a capture that lies on the ticket."""

    model_config = ConfigDict(extra="forbid")
    sha256: str
    device: str
    by: By


class FindingOut(Wire):
    id: str
    kind: str
    severity: str
    text: str
    means: str
    page: str
    at: int | None


class PageOut(Wire):
    path: str
    kind: str
    status: str
    detail: str
    size: int


class EventOut(Wire):
    """Something in the drive's logs. `hours`: its power-on time then; `ago`: hours of running before now, where
    known."""

    kind: str
    hours: int | None
    ago: int | None
    text: str
    lba: int | None
    severity: str
    page: str
    at: int


class TrendLineOut(Wire):
    name: str
    kind: str
    unit: str
    grown: int
    per_1000_hours: float | None


class TrendOut(Wire):
    """This drive against its earlier captures."""

    captures: int
    lines: list[TrendLineOut]
    findings: list[FindingOut]
    new: list[str]
    gone: list[str]


class RawOut(Wire):
    """The bytes of a page, `hex` in lower case; `field` at the byte that was asked for."""

    path: str
    size: int
    hex: str
    field: str | None
    start: int
    length: int


class NamespaceOut(Wire):
    """A namespace of an NVMe drive: bytes, and bytes of a sector."""

    number: int | None
    capacity: int
    sector: int


class DriveOut(Wire):
    device: str
    bus: str
    identity: dict[str, Any] | None
    verdict: str
    passes_pages: bool
    weights: dict[str, float] | None
    findings: list[FindingOut]
    readings: list[dict[str, Any]]
    pages: list[PageOut]
    namespaces: list[NamespaceOut] = Field(default=[])
    hours: int | None = None
    events: list[EventOut] = Field(default=[], description="Of a long log the newest part")
    events_in_all: int = 0
    statistics: list[dict[str, Any]] = Field(default=[])
    trend: TrendOut | None = None
    tests: dict[str, int] = Field(
        default={}, description="Self-tests that it offers: kind and minutes, 0 where it does not say"
    )


class VolumeOut(Wire):
    """What begins in a partition (`volume` null: no known mark), or in a logical volume `within` it; `programs`: of a
    system partition, what firmware could start from it."""

    device: str
    partition: int
    within: str
    programs: list[str]
    volume: dict[str, Any] | None


class CaptureOut(Wire):
    """A decoded file of the ticket. `weighed`: device whose pages were put on the tape at once, if it was clear which;
    `asks`: devices of which any may be the machine's own, where it is not; `notes`: findings that are no one
    drive's."""

    sha256: str
    name: str
    added_at: str
    devices: list[DriveOut]
    other_pages: list[PageOut]
    weighed: str | None = None
    asks: list[str] = Field(default=[])
    volumes: list[VolumeOut] = Field(default=[])
    notes: list[FindingOut] = Field(default=[])
