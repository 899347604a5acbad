"""All services of one shop, put together over its data folder."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from gatecheck.adapters.capture_files import LARGEST_CAPTURE
from gatecheck.adapters.shipped_tables import own_texts, shipped_model, shipped_texts, words_over
from gatecheck.core.belief.compile import compile_model
from gatecheck.core.belief.model import Model
from gatecheck.core.errors import GateCheckError
from gatecheck.core.knowledge.loader import load
from gatecheck.server.bench.service import BenchView
from gatecheck.server.bench_key import BenchKey
from gatecheck.server.captures.service import Captures
from gatecheck.server.ear.service import Ear
from gatecheck.server.events import Events
from gatecheck.server.instruments.service import Instruments
from gatecheck.server.learning.service import Learning
from gatecheck.server.link.service import Links
from gatecheck.server.link.waiting_machines import WaitingMachines
from gatecheck.server.papers.service import Papers
from gatecheck.server.path.service import Paths
from gatecheck.server.people.devices import Devices
from gatecheck.server.people.technicians import Technicians
from gatecheck.server.practice.processes import PracticeProcesses
from gatecheck.server.practice.service import Practice
from gatecheck.server.room.service import Room
from gatecheck.server.shop import Shop
from gatecheck.server.surface.service import Surfaces
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.volumes.check_reports import systems_of
from gatecheck.server.volumes.service import Volumes
from gatecheck.server.volumes.ticket_keys import TicketKeys
from gatecheck.server.volumes.worker import WorkerProcess
from gatecheck.server.work.service import Work
from gatecheck.store import open_database
from gatecheck.store.files import FileStore
from gatecheck.store.keeping import VOLUMES

KNOWLEDGE = "knowledge"
"""folder in the shop's data folder whose tables are laid over the shipped ones"""


@dataclass(frozen=True)
class Services:
    """One shop with everything it can do."""

    shop: Shop
    tickets: Tickets
    bench: BenchView
    learning: Learning
    captures: Captures
    instruments: Instruments
    links: Links
    machines: WaitingMachines
    surfaces: Surfaces
    paths: Paths
    volumes: Volumes
    ear: Ear
    practice: Practice
    work: Work
    papers: Papers
    devices: Devices
    technicians: Technicians
    room: Room


def open_services(
    data: Path,
    *,
    name: str = "The bench",
    prefix: str = "GC",
    bays: int = 9,
    url: str | None = None,
    fonts: Path | None = None,
) -> Services:
    """The shop over a data folder; the folder is made where it is missing. Tables of its own that cannot be used are
    left out, and said on the bench."""
    database = open_database(data / "gatecheck.sqlite3")
    model, notices = own_model(data / KNOWLEDGE)
    shop = Shop(
        model,
        words_over(model.knowledge),
        database,
        FileStore(data / "files", LARGEST_CAPTURE),
        name=name,
        prefix=prefix,
        bays=bays,
        notices=notices,
        events=Events(),
    )
    shop.read_page()
    return services_of(shop, url, fonts)


def services_of(shop: Shop, url: str | None = None, fonts: Path | None = None) -> Services:
    """The services over a shop, each handed those that it works with. Raises LookupError where an order has no
    instrument."""
    data = shop.files.folder.parent
    key, processes = BenchKey(data), PracticeProcesses()
    tickets = Tickets(shop)
    worker = WorkerProcess()
    keys = TicketKeys(lambda ticket_id: bool(tickets.row_of(ticket_id).closed_at), worker)
    learning, captures = Learning(shop, tickets, keys.forget), Captures(shop, tickets)
    links = Links(shop, tickets, captures, ended=processes.stop)
    practice = Practice(shop, tickets, links, processes, url)
    work = Work(shop, tickets, captures, practice)
    paths = Paths(
        shop, captures, links, lambda ticket_id, disk, first: systems_of(data / VOLUMES / str(ticket_id), disk, first)
    )
    volumes = Volumes(shop, captures, links, paths, worker, keys)
    links.instruments.check()
    links.restores.check()
    return Services(
        shop=shop,
        tickets=tickets,
        bench=BenchView(shop, tickets, links.sessions),
        learning=learning,
        captures=captures,
        instruments=Instruments(shop, tickets, captures),
        links=links,
        machines=WaitingMachines(shop, links.sessions, links.start_codes, key),
        surfaces=Surfaces(shop, captures, links),
        paths=paths,
        volumes=volumes,
        ear=Ear(shop, tickets),
        practice=practice,
        work=work,
        papers=Papers(shop, tickets, captures, work, volumes, fonts),
        devices=Devices(shop.database, shop.announce),
        technicians=Technicians(shop.database, shop.announce),
        room=Room(shop, tickets, volumes),
    )


def own_model(folder: Path) -> tuple[Model, tuple[str, ...]]:
    """The shipped tables with the shop's own laid over them, checked alike; and what was wrong with those, if anything
    was."""
    try:
        own = own_texts(folder)
        return (compile_model(load(shipped_texts(), own)), ()) if own else (shipped_model(), ())
    except GateCheckError as error:
        return shipped_model(), (f"The shop's own tables are not used: {error}",)
