"""All services of one shop, put together over its data folder."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from gatecheck.adapters.capture_files import LARGEST_CAPTURE
from gatecheck.adapters.shipped_tables import own_texts, shipped_model, shipped_texts, words_over
from gatecheck.core.belief.compile import compile_model
from gatecheck.core.belief.model import Model
from gatecheck.core.errors import BenchError
from gatecheck.core.knowledge.loader import load
from gatecheck.server.bench.service import BenchView
from gatecheck.server.bench_key import BenchKey
from gatecheck.server.captures.service import Captures
from gatecheck.server.ear.service import Ear
from gatecheck.server.instruments.service import Instruments
from gatecheck.server.learning.service import Learning
from gatecheck.server.link.service import Links
from gatecheck.server.link.waiting_machines import Knocks
from gatecheck.server.papers.service import Papers
from gatecheck.server.path.service import Paths
from gatecheck.server.people.devices import Devices
from gatecheck.server.practice.service import Practice
from gatecheck.server.shop import Shop
from gatecheck.server.surface.service import Surfaces
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.volumes.service import Volumes
from gatecheck.server.work.service import Work
from gatecheck.store import open_database
from gatecheck.store.files import FileStore

KNOWLEDGE = "knowledge"
"""folder in the shop's data folder whose tables are laid over the shipped ones"""


@dataclass(frozen=True)
class House:
    """One shop with everything it can do."""

    shop: Shop
    tickets: Tickets
    bench: BenchView
    learning: Learning
    captures: Captures
    instruments: Instruments
    links: Links
    knocks: Knocks
    surfaces: Surfaces
    paths: Paths
    volumes: Volumes
    ear: Ear
    practice: Practice
    work: Work
    papers: Papers
    devices: Devices


def open_house(data: Path, *, name: str = "The bench", prefix: str = "GC", bays: int = 9, url: str | None = None, fonts: Path | None = None) -> House:
    """The shop over a data folder; the folder is made where it is missing. Tables of its own that cannot be used are left out, and
    said on the bench."""
    database = open_database(data / "gatecheck.sqlite3")
    model, notices = own_model(data / KNOWLEDGE)
    shop = Shop(model, words_over(model.knowledge), database, FileStore(data / "files", LARGEST_CAPTURE), name=name, prefix=prefix, bays=bays, notices=notices)
    shop.read_page()
    return house_of(shop, url, fonts)


def house_of(shop: Shop, url: str | None = None, fonts: Path | None = None) -> House:
    """The services over a shop."""
    key = BenchKey(shop.files.folder.parent)
    tickets = Tickets(shop)
    bench, learning, captures = BenchView(shop, tickets), Learning(shop, tickets), Captures(shop, tickets)
    links = Links(shop, tickets, captures)
    bench.link_row = links.row
    work, practice = Work(shop, tickets, captures), Practice(shop, tickets, links, url)
    paths = Paths(shop, captures, links)
    volumes, papers = Volumes(shop, captures, links, paths), Papers(shop, tickets, captures, work, links.copying.copies, fonts)
    papers.on_erase = volumes.remove_all
    practice.new_drive, work.on_swap = work.new_drive, practice.connect_again
    return House(
        shop, tickets, bench, learning, captures, Instruments(shop, tickets, captures), links, Knocks(shop, links, key), Surfaces(shop, captures, links), paths, volumes, Ear(shop, tickets), practice, work,
        papers,
        Devices(shop.database, lambda event: shop.announce(event)),
    )  # fmt: skip


def own_model(folder: Path) -> tuple[Model, tuple[str, ...]]:
    """The shipped tables with the shop's own laid over them, checked alike; and what was wrong with those, if anything was."""
    try:
        own = own_texts(folder)
        return (compile_model(load(shipped_texts(), own)), ()) if own else (shipped_model(), ())
    except BenchError as error:
        return shipped_model(), (f"The shop's own tables are not used: {error}",)
