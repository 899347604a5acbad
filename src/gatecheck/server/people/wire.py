"""What goes over the wire of devices and who uses them."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field

from gatecheck.server.wire import Wire


class PairIn(BaseModel):
    """A device asks to be let in. `initials`: its technician's; the server writes them from then on."""

    model_config = ConfigDict(extra="forbid")
    code: str = Field(min_length=1, max_length=20)
    initials: str = Field(min_length=1, max_length=20)
    name: str = Field(default="", max_length=60)


class MeOut(Wire):
    """Who asks. `here`: on the bench's own computer; `initials`: of a paired device's technician."""

    here: bool
    paired: bool
    initials: str | None


class AuthorityOut(Wire):
    """The shop's own certificate authority. `words`: the beginning of its fingerprint, to be read out; `place`:
    where its certificate is fetched, `qr` the same as a picture."""

    words: str
    fingerprint: str
    place: str
    qr: str


class CodeOut(Wire):
    """A code for one device. `qr`: SVG of the address that carries it; `address`: empty where the server answers only
    on this computer."""

    code: str
    seconds: float
    address: str
    qr: str
    authority: AuthorityOut | None = None


class DeviceOut(Wire):
    id: int
    name: str
    initials: str
    paired_at: str
    seen_at: str
    is_this: bool
