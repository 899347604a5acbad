"""What goes over the wire of devices and who uses them."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from gatecheck.server.wire import By, Wire


class PairIn(BaseModel):
    """A device asks to be let in. `initials`: its technician's; the server writes them from then on."""

    model_config = ConfigDict(extra="forbid")
    code: str = Field(min_length=1, max_length=20)
    initials: str = Field(min_length=1, max_length=20)
    name: str = Field(default="", max_length=60)


class MeOut(Wire):
    """Who asks. `here`: on the bench's own computer; `initials`: of whoever has signed in, else of a paired device's
    technician; `knows_technicians`: a change needs somebody who has signed in; `role`, `rights`: of them."""

    here: bool
    paired: bool
    initials: str | None
    knows_technicians: bool = False
    signed_in: bool = False
    role: str | None = None
    rights: list[str] = Field(default_factory=list)


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


_Pin = Annotated[str, Field(max_length=64)]
_Initials = Annotated[str, Field(min_length=1, max_length=20)]


class SignInIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    initials: _Initials
    pin: _Pin


class ApproveIn(BaseModel):
    """Somebody who has the right lends it, with their own PIN, for one request."""

    model_config = ConfigDict(extra="forbid")
    right: Annotated[str, Field(max_length=20)]
    initials: _Initials
    pin: _Pin


class ApprovedOut(Wire):
    by: str


class TechnicianIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    initials: _Initials
    role: Annotated[str, Field(max_length=20)]
    pin: _Pin
    by: By


class TechnicianChangeIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    role: Annotated[str, Field(max_length=20)] | None = None
    pin: _Pin | None = None


class TechnicianOut(Wire):
    id: int
    initials: str
    role: str
    rights: list[str]
    added_by: str
    added_at: str
