"""What the Surface instrument is sent."""

from __future__ import annotations

from gatecheck.server.wire import Wire


class SurfaceReadOut(Wire):
    """One read of a surface. `state`: running, paused, done. `id`: to ask for it by; `order`: of one that is not
    done."""

    id: str
    device: str
    drive: str
    at: str
    state: str
    order: int | None
    share: float


class RibbonBinOut(Wire):
    """One part of the span. MB/s of what was read, and of its slowest block; shares of it that were read and that do
    not read."""

    mb_s: float | None
    slowest: float | None
    read: float
    bad: float


class PlaceOut(Wire):
    """A bad place. `kind`: slow, unreadable, mixed. `lives`: what is there; `is_new`: it read well at the read
    before."""

    first: int
    last: int
    kind: str
    lives: str
    is_new: bool


class LivesOut(Wire):
    """A part of the disk with a name: a partition."""

    name: str
    first: int
    last: int


class SurfaceOut(Wire):
    """A read, as it can be drawn: a span of it in bins, the verdict in words, the bad places (the first of them), and
    what lives where."""

    read: SurfaceReadOut
    pattern: str
    text: str
    means: str
    share: float
    unreadable: int
    heads: str
    sector: int
    sectors: int
    first: int
    end: int
    bins: list[RibbonBinOut]
    places: list[PlaceOut]
    more_places: int
    lives: list[LivesOut]
    outer: float | None
    inner: float | None
    seconds_left: float | None
    before: str | None
    """the read of the same drive before it"""


class SurfacesOut(Wire):
    """All reads of a ticket, the newest first, and drives that can be read now: `held` says why not, `copy_held` why
    not copied."""

    reads: list[SurfaceReadOut]
    drives: list[ReadableOut]
    held: str
    copy_held: str


class ReadableOut(Wire):
    device: str
    name: str
    fits: bool
    """the bench's disk has room for a copy of it"""


SurfacesOut.model_rebuild()
