"""The bench: one row per machine, hands wanted first; and finding a ticket."""

from __future__ import annotations

import logging
from typing import Any

from gatecheck.core.knowledge.tables import Check, Fix, Knowledge
from gatecheck.core.knowledge.work import OUT
from gatecheck.server.bench.wire import BenchOut, BenchRow, FoundOut, KnownEntryOut, KnownOut, WordsOut
from gatecheck.server.link.sessions import Sessions
from gatecheck.server.link.wire import LinkRowOut
from gatecheck.server.shop import Shop, now
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.store import tickets
from gatecheck.store.tickets import TicketRow

_log = logging.getLogger(__name__)
_RANK = {"hands": 0, "running": 1, "done": 2}
_NO_BAY = 999
_OF_A_MODEL = ("platform", "form", "drive_kind", "installed_os")
"""facts that a machine of the same name most likely shares"""


class BenchView:
    """What the bench shows."""

    def __init__(self, shop: Shop, at_work: Tickets, sessions: Sessions) -> None:
        self.shop, self.tickets, self.sessions = shop, at_work, sessions

    def overview(self) -> BenchOut:
        """All open tickets, hands wanted first."""
        with self.shop.database.read() as connection:
            rows = tickets.tickets_on_bench(connection)
        views = [self._row(row) for row in rows]
        views.sort(key=lambda r: (_RANK[r.turn], not r.urgent, r.bay or _NO_BAY, r.id))
        return BenchOut(
            shop=self.shop.name,
            bays=self.shop.bays,
            rows=views,
            notices=[*self.shop.notices, *filter(None, (self.shop.backups_say(),))],
        )

    def _row(self, row: TicketRow) -> BenchRow:
        """One ticket's row; one that cannot be shown says so, and takes no other away."""
        try:
            return bench_row(self.tickets.view(row), self.sessions.row(row.id))
        except Exception as error:
            _log.exception("ticket %s cannot be shown", row.number)
            return BenchRow(
                id=row.id,
                number=row.number,
                bay=row.bay,
                customer=row.customer,
                machine=row.machine,
                facts={},
                gates=[],
                turn="hands",
                urgent=False,
                next_move=None,
                next_kind=None,
                next_minutes=None,
                next_why="",
                choice=None,
                leans="",
                fix=None,
                signed=None,
                started=False,
                open_trials=0,
                running=None,
                link=None,
                broken=f"{type(error).__name__}: {error}"[:300],
            )

    def known(self, customer: str, machine: str) -> KnownOut:
        """Customers and machines that were here before and begin so; each brings what a machine keeps from visit to
        visit."""
        with self.shop.database.read() as connection:
            customers = tickets.known_customers(connection, customer) if customer else []
            machines = tickets.known_machines(connection, machine) if machine else []

        def out(known: tickets.EarlierTicket) -> KnownEntryOut:
            return KnownEntryOut(
                name=known.name,
                machine=known.machine,
                facts={k: str(v) for k, v in known.facts.items() if k in _OF_A_MODEL and v},
            )

        return KnownOut(customers=[out(k) for k in customers], machines=[out(k) for k in machines])

    def find(self, text: str) -> list[FoundOut]:
        """Tickets by number, customer or machine."""
        with self.shop.database.read() as connection:
            found = tickets.find_tickets(connection, text)
        return [
            FoundOut(
                id=t.id, number=t.number, customer=t.customer, machine=t.machine, bay=t.bay, closed=bool(t.closed_at)
            )
            for t in found
        ]


def bench_row(ticket: TicketOut, link: LinkRowOut | None) -> BenchRow:
    """One machine as one line: where it stands, and the one thing to do or to wait for."""
    first = ticket.next[0] if ticket.next else None
    job = ticket.job
    waits = job is not None and (job.waits is not None or (job.due_at is not None and job.due_at > now()))
    done = ticket.signed is not None and not ticket.running and (job is None or job.step is None)
    trial = next((t for t in reversed(ticket.trials) if t.standing == "pending"), None)
    if trial and not ticket.running:  # its result comes before anything else
        first = next((n for n in ticket.next if n.move == trial.fix), None)
    return BenchRow(
        id=ticket.id,
        number=ticket.number,
        bay=ticket.bay,
        customer=ticket.customer,
        machine=ticket.machine,
        facts=ticket.facts,
        gates=ticket.gates,
        turn="running"
        if ticket.running
        or waits
        or (link is not None and link.work and link.state == "linked" and not (link.stalls or link.paused))
        else "done"
        if done
        else "hands",
        urgent=bool(first and first.move == "power-down"),
        next_move=first.move if first else trial.fix if trial else None,
        next_kind=first.kind if first else None,
        next_minutes=first.minutes if first else None,
        next_why=first.why if first else "",
        choice=ticket.call.choice,
        leans=ticket.call.leans,
        fix=ticket.call.fix,
        signed=None if ticket.signed is None else str(ticket.tape[ticket.signed].body["signed"]),
        started=all(g.state == "open" for g in ticket.gates),
        open_trials=sum(t.standing in ("pending", "open") for t in ticket.trials),
        running=ticket.running,
        job=job,
        link=link,
        broken=next((f"entry {e.place}: {e.broken}" for e in ticket.tape if e.broken and e.stands), None),
    )


def words_of(knowledge: Knowledge) -> WordsOut:
    """The catalogue of gates, faults and moves that the screens speak from."""

    with_ways = {w.move for w in knowledge.ways}

    def move(kind: str, item: Check | Fix) -> dict[str, Any]:
        return {
            "id": item.id,
            "kind": kind,
            "gate": item.gate,
            "name": item.name,
            "ask": item.ask,
            "why": item.why,
            "outcomes": list(item.outcomes),
            "say": dict(item.say),
            "minutes": item.minutes,
            "unattended": item.unattended,
            "visit": item.visit,
            "verdict": getattr(item, "verdict", False),
            "trial": getattr(item, "trial", False),
            "ways": item.id in with_ways,
        }

    return WordsOut.model_validate(
        {
            "gates": [{"id": g.id, "name": g.name, "asks": g.asks} for g in knowledge.gates],
            "faults": [{"id": f.id, "gate": f.gate, "name": f.name, "text": f.text} for f in knowledge.faults],
            "moves": [
                *(move("check", c) for c in knowledge.checks.values()),
                *(move("fix", f) for f in knowledge.fixes.values()),
            ],
            "calls": dict(knowledge.calls),
            "call_names": dict(knowledge.call_names),
            "interlocks": {i.id: i.text for i in knowledge.interlocks.values()},
            "facts": {k: list(v) for k, v in knowledge.facts.items()},
            "platforms": knowledge.platform_words,
            "steps": {
                **{
                    s.id: {"name": s.name, "answers": {a.id: a.say for a in s.answers.values()}}
                    for s in knowledge.work.steps.values()
                },
                **{a.id: {"name": a.name, "answers": {}} for a in knowledge.work.automatic},
            },
            "out_kinds": list(OUT),
            "key_moves": knowledge.keys.moves,
            "values": {v: name for row in knowledge.settings.rows.values() for v, name in row.values.items()}
            | dict(knowledge.sightings.seen),
            "instruments": {
                "drive": "System drive",
                **{r.id: r.name for r in knowledge.settings.rows.values()},
                **knowledge.sightings.kinds,
                **{v.id: v.name for v in knowledge.sightings.vantages.values()},
            },
            "purposes": knowledge.keys.purposes,
        }
    )
