"""Money as a shop charges it: to the smallest coin of its currency (ISO 4217), written as its locale writes it."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import ROUND_HALF_UP, Decimal
from functools import lru_cache

NO_CURRENCY = "XXX"
"""ISO 4217: no currency is involved. A shop that has not said what it charges in"""


@dataclass(frozen=True, slots=True)
class Money:
    """`currency`: ISO 4217; `locale`: as CLDR names it, such as en or de_CH."""

    currency: str
    locale: str = "en"

    def rounded(self, amount: float | Decimal | str) -> Decimal:
        """To the smallest coin, halves up."""
        places = _places(self.currency)
        return Decimal(str(amount)).quantize(Decimal(1).scaleb(-places), ROUND_HALF_UP)

    def text(self, amount: float | Decimal) -> str:
        """The amount with its currency."""
        from babel.numbers import format_currency  # reads its tables when it is first wanted

        return format_currency(self.rounded(amount), self.currency, locale=self.locale.replace("-", "_"))


@lru_cache(64)
def _places(currency: str) -> int:
    if currency == NO_CURRENCY:
        return 2
    from babel.numbers import get_currency_precision

    return get_currency_precision(currency)


@lru_cache(1)
def currencies() -> frozenset[str]:
    """Every code of ISO 4217."""
    from babel.numbers import list_currencies

    return frozenset(list_currencies())


def is_locale(name: str) -> bool:
    """A locale that numbers can be written for."""
    from babel import Locale, UnknownLocaleError

    try:
        Locale.parse(name.replace("-", "_"))
    except (UnknownLocaleError, ValueError, TypeError):
        return False
    return True
