"""The shop: what every service of the server shares. Its database, files, tables, words, and whom to tell of
changes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import UTC, datetime

from gatecheck.core.belief.model import Model
from gatecheck.core.learning import Lesson, relearned
from gatecheck.core.words.catalogue import Words
from gatecheck.core.work.shop import ShopPage, ShopPageError, parse_shop, upgraded
from gatecheck.server.events import Events
from gatecheck.store import Connection, Database, lessons
from gatecheck.store.files import FileStore
from gatecheck.store.shop_pages import epoch, shop_page


def now() -> str:
    """The moment, in UTC, as it is stored."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


class Shop:
    """`shipped`: the tables as they ship (the shop's own laid over them); `model`: the same with what its tickets
    taught."""

    def __init__(
        self,
        model: Model,
        words: Words,
        database: Database,
        files: FileStore,
        *,
        name: str,
        prefix: str,
        bays: int,
        notices: tuple[str, ...] = (),
        events: Events,
    ) -> None:
        self.shipped, self.model, self.words = model, model, words
        self.database, self.files = database, files
        self.page = ShopPage(name=name, prefix=prefix, bays=bays)
        self.backups_say: Callable[[], str] = str
        """what has to be known of the backups; nothing where the shop makes none by itself"""
        self.notices = notices
        """what has to be said on the bench about the shop itself, such as tables of its own that could not be used"""
        self.epoch: int | None = None
        self.generation = 0
        """how often the model has changed: whatever was worked out with an earlier one is out of date"""
        self.events = events
        self.announce = events.publish

    @property
    def name(self) -> str:
        return self.page.name

    @property
    def prefix(self) -> str:
        return self.page.prefix

    @property
    def bays(self) -> int:
        return self.page.bays

    def use(self, page: ShopPage) -> None:
        """Go on with this page."""
        self.page = page

    def read_page(self) -> None:
        """The page as it was kept; what cannot be read of it any more is said on the bench, and its lines stay as they
        were."""
        with self.database.read() as connection:
            kept = shop_page(connection)
        if kept is None:
            return
        try:
            self.page = parse_shop(upgraded(kept), self.page)
        except ShopPageError as error:
            self.notices = (*self.notices, f"The shop's own page is not used: {error}")

    def check_epoch(self, connection: Connection) -> None:
        """Forget what was worked out before where another program has replaced the whole shop since."""
        n = epoch(connection)
        if self.epoch is not None and n != self.epoch:
            self.epoch = n
            self.generation += 1
            self.read_page()
            self.relearn()
        self.epoch = n

    def lessons(self) -> Sequence[Lesson]:
        """What its closed tickets teach."""
        with self.database.read() as connection:
            return lessons.lessons(connection, self.shipped.knowledge.rates["warranty_days"])

    def relearn(self) -> None:
        """Blend the shop's own base rates in; every ticket is folded anew with them when it is next looked at."""
        model = relearned(self.shipped, self.lessons())
        self.model, self.words = model, self.words.over(model.knowledge)
        self.generation += 1
