"""Papers, pictures and the shop's page on the wire."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field

from gatecheck.server.wire import By, Wire


class PaperPictureOut(Wire):
    file: str
    says: str


class PaperSectionOut(Wire):
    heading: str
    lines: list[str]
    rows: list[list[str]]
    pictures: list[PaperPictureOut]
    strong: bool = Field(description="The last row is the sum")


class LabelOut(Wire):
    number: str
    what: str
    lines: list[str]
    code: str = Field(description="QR code as SVG")


class PaperOut(Wire):
    """A paper, worded: the print view and the PDF show the same."""

    kind: str
    title: str
    shop: str
    address: list[str]
    head: list[str]
    sections: list[PaperSectionOut]
    labels: list[LabelOut]
    paper: str
    may_print: bool = Field(description="False until the shop has a name and an address")


class EarlierOut(Wire):
    """An earlier stay of the same machine."""

    id: int
    number: str
    machine: str
    closed_at: str
    found: list[str]
    done: list[str]
    warranty_until: str
    in_warranty: bool = Field(description="It came again before the warranty on what was done then had ended")
    is_comeback: bool


class SpentOut(Wire):
    """Hands-on minutes: as the tape shows, as corrected, and what was expected of what was done."""

    measured: float
    corrected: float | None
    expected: float


class PapersOut(Wire):
    kinds: dict[str, str]
    spent: SpentOut
    erased_at: str | None
    erased_copies: list[str]
    """safety copies of the shop that were written anew or deleted for it"""
    erase_outside: list[str]
    """what erasing cannot reach, a sentence each"""


class ShopPageOut(Wire):
    name: str
    address: list[str]
    prefix: str
    bays: int
    technicians: list[str]
    bench_hour: float
    currency: str = Field(description="ISO 4217")
    locale: str
    tax: float
    tax_by: str
    warranty_days: int
    paper: str
    opening: str
    may_print: bool


class ShopPageIn(BaseModel):
    """Lines of the shop's page; those that are left out stay as they are. They are checked by the core, each with its
    own sentence."""

    model_config = ConfigDict(extra="forbid")
    page: dict[str, object] = Field(max_length=20)
    by: By


class PaceOut(Wire):
    what: str
    expected: float
    took: float
    times: int
