"""The shop's own page: who it is, what it charges, on which paper. Checked before it is kept."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, fields

from gatecheck.core.errors import GateCheckError
from gatecheck.core.tape.parse import is_text

PAPERS = ("a4", "letter")
_MOST_BAYS, _MOST_LINES, _MOST_PEOPLE, _LONGEST, _LONGEST_OPENING = 99, 6, 40, 120, 400
_LARGEST_RATE, _LARGEST_TAX, _LONGEST_WARRANTY = 100_000.0, 60.0, 3650


@dataclass(frozen=True, slots=True)
class ShopPage:
    """`bench_hour` in `currency`; `tax` in percent, 0 for none; `warranty_days` from the handover; `opening`: first
    words of the customer's page."""

    name: str = "The bench"
    address: tuple[str, ...] = ()
    prefix: str = "GC"
    bays: int = 9
    technicians: tuple[str, ...] = ()
    bench_hour: float = 60.0
    currency: str = "¤"
    tax: float = 0.0
    warranty_days: int = 90
    paper: str = "a4"
    opening: str = ""


class ShopPageError(GateCheckError):
    """A line of the shop's page that cannot be used. `field` is its name."""

    def __init__(self, field: str, *, expected: object, got: object) -> None:
        self.field, self.expected, self.got = field, expected, got
        super().__init__(f"shop.{field}: expected {expected}, got {got}")


def parse_shop(raw: Mapping[str, object], base: ShopPage) -> ShopPage:
    """`base` with what `raw` says. Raises ShopPageError for the first line that cannot be used."""
    known = {f.name for f in fields(ShopPage)}
    for name in raw:
        if name not in known:
            raise ShopPageError(str(name)[:40], expected=f"one of {', '.join(sorted(known))}", got="an unknown line")
    said = {**asdict(base), **raw}
    return ShopPage(
        _text(said, "name"),
        _texts(said, "address", _MOST_LINES, _LONGEST),
        _prefix(said),
        int(_number(said, "bays", 1, _MOST_BAYS, whole=True)),
        _texts(said, "technicians", _MOST_PEOPLE, 20),
        _number(said, "bench_hour", 0, _LARGEST_RATE),
        _text(said, "currency", 8),
        _number(said, "tax", 0, _LARGEST_TAX),
        int(_number(said, "warranty_days", 0, _LONGEST_WARRANTY, whole=True)),
        _paper(said),
        _text(said, "opening", _LONGEST_OPENING, optional=True),
    )


def _text(said: Mapping[str, object], name: str, longest: int = _LONGEST, *, optional: bool = False) -> str:
    value = said[name]
    if not isinstance(value, str) or len(value) > longest or not is_text(value) or not (optional or value.strip()):
        raise ShopPageError(name, expected=f"a text of at most {longest} letters", got=repr(value)[:60])
    return value.strip()


def _texts(said: Mapping[str, object], name: str, most: int, longest: int) -> tuple[str, ...]:
    value = said[name]
    if (
        not isinstance(value, Sequence)
        or isinstance(value, str | bytes)
        or len(value) > most
        or not all(isinstance(v, str) and len(v) <= longest and is_text(v) for v in value)
    ):
        raise ShopPageError(name, expected=f"at most {most} texts of at most {longest} letters", got=repr(value)[:60])
    return tuple(v.strip() for v in value if v.strip())


def _prefix(said: Mapping[str, object]) -> str:
    prefix = _text(said, "prefix", 6)
    if not (prefix.isascii() and prefix.isalnum()):
        raise ShopPageError("prefix", expected="at most 6 letters or digits", got=repr(prefix))
    return prefix.upper()


def _paper(said: Mapping[str, object]) -> str:
    if said["paper"] not in PAPERS:
        raise ShopPageError("paper", expected=f"one of {', '.join(PAPERS)}", got=repr(said["paper"])[:60])
    return str(said["paper"])


def _number(said: Mapping[str, object], name: str, low: float, high: float, *, whole: bool = False) -> float:
    value = said[name]
    if (
        isinstance(value, bool)
        or not isinstance(value, int | float)
        or not low <= value <= high
        or (whole and value != int(value))
    ):
        raise ShopPageError(
            name, expected=f"a {'whole ' if whole else ''}number from {low:g} to {high:g}", got=repr(value)[:60]
        )
    return float(value)
