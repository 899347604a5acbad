"""What goes between browser, server and probe about a link (docs/link-protocol.md)."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field

from gatecheck.server.wire import By, Wire


class LinkRowOut(Wire):
    """A linked machine on the bench. `state`: linked, away. `of` is 0 while it waits for orders."""

    state: str
    done: int
    of: int
    text: str
    minutes_left: float | None = None
    stalls: bool = False
    """it has got no further for a while"""
    work: str = ""
    """what runs for hours on its own, or is paused: self-test, scan, copy; else empty"""
    paused: str = ""
    """why such work was paused, where it was by the drive"""
    hot: bool = False
    """it waits until the drive is cooler"""


class LinkProgressOut(Wire):
    done: int
    of: int
    text: str
    minutes_left: float | None
    unit: str
    """what `done` and `of` count: percent, sectors"""
    order: str
    waits_for_key: bool = False
    """nothing is written before somebody at the machine presses a key"""


class LinkOrderOut(Wire):
    id: int
    order: str
    device: str | None = None
    drive: str | None = None
    """its serial number or world wide name: kernel names move between two starts"""
    kind: str | None = None
    minutes: int | None = None
    hot: int | None = None
    first: int | None = None
    end: int | None = None
    copy_of: int | None = None
    """of a drive that is filled: the order whose copy it is filled from"""
    wanted: str = ""
    state: str
    detail: str
    made_by: str
    made_at: str


class LinkOfferOut(Wire):
    """An order that can be given. `held`: why its move is held back now, empty where it is not."""

    order: str
    kind: str
    move: str
    held: str


class LinkOut(Wire):
    """The link of a ticket. `state`: none, waiting (no probe yet), linked, away, ended. `qr`: SVG of the address."""

    state: str
    secret: str
    code: str
    """what is typed; exchanged for the secret once"""
    address: str
    commands: list[str]
    """the line to type, for curl, wget and busybox"""
    qr: str
    local_only: bool
    practice: str | None
    number: str = ""
    """what the machine's screen shows while it waits for a key there; empty where it does not"""
    machine: dict[str, str]
    progress: LinkProgressOut | None
    orders: list[LinkOrderOut]
    offers: list[LinkOfferOut]


class OrderIn(BaseModel):
    """An order for the probe: read; self-test with a device and a kind (short, long, conveyance); scan with a device,
    and where wanted minutes, degrees, a span of sectors."""

    model_config = ConfigDict(extra="forbid")
    order: str = Field(max_length=20)
    device: str | None = Field(default=None, max_length=40, pattern=r"^[a-z0-9]+$")
    kind: str | None = Field(default=None, max_length=10)
    minutes: int | None = Field(default=None, ge=1, le=10_000)
    hot: int | None = Field(default=None, ge=30, le=90)
    first: int | None = Field(default=None, ge=0, le=1 << 48)
    end: int | None = Field(default=None, ge=1, le=1 << 48)
    tight: bool = False
    """copy although the bench's disk is smaller than the drive: it pauses when it is full"""
    by: By


class SteerIn(BaseModel):
    """What an order is to do: pause, stop, go-on, leave."""

    model_config = ConfigDict(extra="forbid")
    do: str = Field(pattern=r"^(pause|stop|go-on|leave)$")
    by: By


class CopyOut(Wire):
    """A copy on the bench's disk: the image, its size, and what it takes there (bytes)."""

    order: int
    path: str
    size: int
    used: int


class TargetOut(Wire):
    """A drive that stands in the machine now. `holds`: volumes that were seen on it, 0 where its edges are nothing but
    zeros, null where it is not known; `found`: what else stands on it, by its name; `against`: why it is not to be
    filled."""

    device: str
    name: str
    serial: str
    size: int
    holds: int | None
    found: str = ""
    against: str | None


class FillIn(BaseModel):
    """Fill this drive. `ends`: the last four characters of its serial number, read off its label; `holes`: it is known
    that the copy lacks something; `over`: that the drive is not empty, or that nobody has looked; `opened`: the
    customer agrees that it is written without its encryption."""

    model_config = ConfigDict(extra="forbid")
    device: str = Field(max_length=40, pattern=r"^[a-z0-9]+$")
    ends: str = Field(max_length=40)
    serial: str = Field(default="", max_length=200)
    """the whole of it, as the screen showed it when somebody confirmed it"""
    holes: bool = False
    over: bool = False
    opened: bool = False
    by: By


class BeginCopyIn(BaseModel):
    """A copy begins: of a drive of so many bytes."""

    session: str = Field(max_length=64)
    order: str = Field(max_length=40)
    size: int = Field(ge=1)


class UnreadIn(BaseModel):
    """Sectors that did not read; `careful`: they were tried one by one."""

    session: str = Field(max_length=64)
    order: str = Field(max_length=40)
    first: int = Field(ge=0, lt=1 << 48)
    count: int = Field(ge=1, lt=1 << 40)
    careful: bool = False


class KnockOut(Wire):
    """A machine that was started from the stick and waits. `seconds`: how long; `number`: what its screen shows too."""

    token: str
    number: str = ""
    machine: str
    serial: str
    mode: str
    seconds: int


class KnocksOut(Wire):
    knocks: list[KnockOut]


class KnockIn(BaseModel):
    """A machine reports that it waits."""

    machine: dict[str, str] = Field(max_length=40)
    probe: str = Field(max_length=20)
    commit: str = Field(default="", pattern=r"^([0-9a-f]{64})?$")
    """SHA-256 of the nonce that it tells with its next question"""


class CodeTypedIn(BaseModel):
    code: str = Field(min_length=1, max_length=80)
    token: str = Field(default="", max_length=80)


class TakeKnockIn(BaseModel):
    model_config = ConfigDict(extra="forbid")

    ticket: int = Field(ge=1)
    by: By


class HelloIn(BaseModel):
    """A probe reports to its ticket. `has`: pages it keeps of this session."""

    protocol: int
    probe: str = Field(max_length=20)
    machine: dict[str, str] = Field(max_length=40)
    session: str = Field(min_length=8, max_length=64, pattern=r"^[0-9a-f]+$")
    has: int = Field(default=0, ge=0)


class PageIn(BaseModel):
    """One page as the probe read it, or the fact that it could not. `data`: base64."""

    session: str = Field(max_length=64)
    seq: int = Field(ge=1)
    order: str = Field(max_length=40)
    path: str = Field(max_length=200)
    kind: str = Field(max_length=40)
    device: str = Field(max_length=40)
    how: str = Field(max_length=1200)
    status: str = Field(max_length=20)
    detail: str = Field(default="", max_length=300)
    size: int = Field(default=0, ge=0)
    sha256: str | None = Field(default=None, max_length=64)
    data: str = Field(max_length=6 << 20)


class ProgressIn(BaseModel):
    session: str = Field(max_length=64)
    order: str = Field(max_length=40)
    done: int = Field(ge=0)
    of: int = Field(ge=0)
    text: str = Field(max_length=200)
    minutes_left: float | None = None
    unit: str = Field(default="percent", pattern=r"^(percent|sectors|bytes)$")
    hot: bool = False
    """it waits until the drive is cooler"""
    key: bool = False
    """it waits until somebody at the machine presses a key"""


class DoneIn(BaseModel):
    session: str = Field(max_length=64)
    order: str = Field(max_length=40)
    result: str = Field(pattern=r"^(done|paused|refused|failed)$")
    detail: str = Field(default="", max_length=1000)
    wrote: bool | None = None
    """has it written anything? None: it does not say"""
