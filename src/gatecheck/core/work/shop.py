"""The shop's own page: who it is, what it charges, on which paper. Checked before it is kept."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, fields

from gatecheck.core.errors import GateCheckError
from gatecheck.core.tape.parse import is_text
from gatecheck.core.work.money import NO_CURRENCY, Money, currencies, is_locale

PAPERS = ("a4", "letter")
BY_LINE, BY_SUM = "line", "sum"
TAX_BY = (BY_LINE, BY_SUM)
UNNAMED = "The bench"
"""what a shop is called before anybody has named it"""
_SIGNS = {"¤": NO_CURRENCY, "€": "EUR", "£": "GBP", "$": "USD", "¥": "JPY"}
_MOST_BAYS, _MOST_LINES, _MOST_PEOPLE, _LONGEST, _LONGEST_OPENING = 99, 6, 40, 120, 400
_LARGEST_RATE, _LARGEST_TAX, _LONGEST_WARRANTY = 100_000.0, 60.0, 3650


@dataclass(frozen=True, slots=True)
class ShopPage:
    """`bench_hour` in `currency` (ISO 4217); `locale`: how papers write numbers; `tax` in percent, 0 for none, rounded
    on every line or on their sum (`tax_by`); `warranty_days` from the handover; `opening`: first words of the
    customer's page."""

    name: str = UNNAMED
    address: tuple[str, ...] = ()
    prefix: str = "GC"
    bays: int = 9
    technicians: tuple[str, ...] = ()
    bench_hour: float = 60.0
    currency: str = NO_CURRENCY
    locale: str = "en"
    tax: float = 0.0
    tax_by: str = BY_SUM
    warranty_days: int = 90
    paper: str = "a4"
    opening: str = ""

    @property
    def money(self) -> Money:
        return Money(self.currency, self.locale)

    @property
    def may_print(self) -> bool:
        """A paper for a customer says whose it is and where to come back to."""
        return self.name != UNNAMED and bool(self.address)


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
        _currency(said),
        _locale(said),
        _number(said, "tax", 0, _LARGEST_TAX),
        _one_of(said, "tax_by", TAX_BY),
        int(_number(said, "warranty_days", 0, _LONGEST_WARRANTY, whole=True)),
        _one_of(said, "paper", PAPERS),
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


def _one_of(said: Mapping[str, object], name: str, known: Sequence[str]) -> str:
    if said[name] not in known:
        raise ShopPageError(name, expected=f"one of {', '.join(known)}", got=repr(said[name])[:60])
    return str(said[name])


def _currency(said: Mapping[str, object]) -> str:
    code = said["currency"]
    code = _SIGNS.get(code.strip(), code) if isinstance(code, str) else code
    if code == NO_CURRENCY:
        return NO_CURRENCY
    if not isinstance(code, str) or code.strip().upper() not in currencies():
        raise ShopPageError("currency", expected="three letters of ISO 4217, such as EUR", got=repr(code)[:60])
    return code.strip().upper()


def _locale(said: Mapping[str, object]) -> str:
    name = said["locale"]
    if name == "en":
        return "en"
    if not isinstance(name, str) or len(name) > 20 or not is_locale(name):
        raise ShopPageError("locale", expected="a language and its region, such as de-CH", got=repr(name)[:60])
    return name.replace("_", "-")


def upgraded(kept: Mapping[str, object]) -> Mapping[str, object]:
    """A page as it was kept by an earlier version, whose currency could be any text: one that is no code is none."""
    text = kept.get("currency")
    if not isinstance(text, str) or text.strip() in _SIGNS or text.strip().upper() in (NO_CURRENCY, *currencies()):
        return kept
    return {**kept, "currency": NO_CURRENCY}


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
