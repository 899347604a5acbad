"""The papers of a ticket, as sentences and rows: the customer's page, the technical sheet, labels, the bill. All are
told from the ledger. How they look is the printer's business."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal

from gatecheck.core.belief.facts import FactValue
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.words.said import Said, say
from gatecheck.core.work.ledger import STOPS, Ledger
from gatecheck.core.work.shop import BY_LINE, ShopPage
from gatecheck.core.work.told import FLASH, data_of, deed_of, done_of, found_of, left_of, now_of

KINDS = ("customer", "file", "label", "bill")
FOR_THE_CUSTOMER = ("customer", "bill")
"""papers that leave the house: they say whose they are"""
_LONGEST_WORDS = 500
Text = Said | str

_STATES = {
    "proven": say("paper.state-proven"),
    "open": say("paper.state-open"),
    "failed": say("paper.state-failed"),
    "waived": say("paper.state-waived"),
}


@dataclass(frozen=True, slots=True)
class Section:
    """A part of a paper. `rows`: what and how much, or what and what; `strong`: its last row is the sum."""

    heading: Text
    lines: tuple[Text, ...] = ()
    rows: tuple[tuple[Text, ...], ...] = ()
    pictures: tuple[Picture, ...] = ()
    strong: bool = False


@dataclass(frozen=True, slots=True)
class Picture:
    file: str
    says: str
    evidence: bool


@dataclass(frozen=True, slots=True)
class Label:
    """A label: a large number, what hangs on it, and the text of its QR code."""

    number: str
    what: Text
    lines: tuple[Text, ...]
    code: str


@dataclass(frozen=True, slots=True)
class Paper:
    """A paper to print. `single`: it has to fit one page."""

    kind: str
    title: Text
    head: tuple[Text, ...]
    sections: tuple[Section, ...] = ()
    labels: tuple[Label, ...] = ()
    single: bool = False


@dataclass(frozen=True, slots=True)
class EarlierStay:
    """The same machine, here before: `ended` is the ISO date it was handed over; what was found and done then."""

    number: str
    ended: str
    found: tuple[Text, ...]
    done: tuple[Text, ...]


@dataclass(frozen=True, slots=True)
class PaperFacts:
    """Everything that the papers of one ticket rest on. Dates are ISO; `minutes`: hands-on, as spent or corrected.

    tape: when, by whom, what. was_opened: something came off the machine. new_is_flash: None where nobody knows.
    covered_by: number of the ticket whose warranty pays for this stay. verdicts: (drive, one sentence). left: settings
    as found and as left. earlier: stays of this machine before this one, the last one first."""

    number: str
    customer: str
    machine: str
    said: str
    taken_in: str
    today: str
    warranty_until: str
    knowledge: Knowledge
    shop: ShopPage
    facts: Mapping[str, FactValue]
    ledger: Ledger
    tape: Sequence[tuple[str, str, Text]]
    was_opened: bool
    old_serial: str
    minutes: float
    new_is_flash: bool | None = None
    covered_by: str | None = None
    odds: Mapping[str, float] = field(default_factory=dict)
    confidence: float | None = None
    left: Sequence[tuple[str, str, str]] = ()
    verdicts: Sequence[tuple[str, Text]] = ()
    pictures: Sequence[Picture] = ()
    earlier: Sequence[EarlierStay] = ()


def paper_of(case: PaperFacts, kind: str) -> Paper:
    """One of KINDS. Raises KeyError for another."""
    return _MAKERS[kind](case)


def _head(case: PaperFacts) -> tuple[Text, ...]:
    return (
        say("paper.ticket", number=case.number),
        say("paper.of", customer=case.customer, machine=case.machine),
        say("paper.dates", came=case.taken_in, today=case.today),
    )


# --- for the customer ------------------------------------------------------------------------------------------------


def _customer(case: PaperFacts) -> Paper:
    ledger, knowledge = case.ledger, case.knowledge
    evidence = tuple(p for p in case.pictures if p.evidence)[:2]
    sections = [
        Section(say("paper.came"), _came(case)),
        Section(say("paper.found"), found_of(ledger, knowledge, case.facts), pictures=evidence),
        Section(say("paper.done"), done_of(ledger, knowledge)),
        Section(say("paper.now"), now_of(ledger)),
        Section(say("paper.data"), data_of(ledger)),
    ]
    left = left_of(ledger)
    if left:
        sections.append(Section(say("paper.open"), left))
    if ledger.part is not None:
        sections.append(Section(say("paper.replaced"), rows=_replaced(case)))
    if ledger.data.has_data:
        advice = (say("paper.backup-advice"), *((say("paper.backup-flash"),) if _is_flash(case) else ()))
        sections.append(Section(say("paper.backups"), advice))
    if case.shop.warranty_days and ledger.repaired and (ledger.ending != STOPS or ledger.part is not None):
        sections.append(Section(say("paper.warranty"), (say("paper.warranty-until", date=case.warranty_until),)))
    return Paper(
        "customer",
        say("paper.customer-title"),
        ((case.shop.opening,) if case.shop.opening else ()) + _head(case),
        tuple(s for s in sections if s.lines or s.rows),
        single=True,
    )


def _came(case: PaperFacts) -> tuple[Text, ...]:
    lines: list[Text] = []
    if case.said:
        lines.append(
            say("paper.you-said", words=case.said[:_LONGEST_WORDS] + ("…" if len(case.said) > _LONGEST_WORDS else ""))
        )
    if case.ledger.stopped is not None:
        lines.append(say("paper.showed", screen=case.knowledge.checks["screen"].say[case.ledger.stopped]))
    elif case.ledger.started_at_first:
        lines.append(say("paper.showed-boots"))
    return tuple(lines) or (say("paper.nothing-said"),)


def _replaced(case: PaperFacts) -> tuple[tuple[Text, ...], ...]:
    part = case.ledger.part
    assert part is not None
    return (
        (say("paper.old-drive"), case.old_serial or say("paper.no-serial")),
        (say("paper.new-drive"), " · ".join(filter(None, (part.name, part.serial)))),
    )


def _is_flash(case: PaperFacts) -> bool:
    """The drive that is in the machine now is one."""
    if case.ledger.data.replaced:
        return case.new_is_flash is True
    return case.facts.get("drive_kind") in FLASH


# --- for the file ----------------------------------------------------------------------------------------------------


def _as_told(name: str, value: FactValue) -> FactValue:
    """A value whose word depends on its fact: no lock is not no data."""
    return "not-locked" if (name, value) == ("lock", "none") else value


def _file(case: PaperFacts) -> Paper:
    ledger = case.ledger
    sections = [
        Section(
            say("paper.facts"),
            rows=tuple(
                (say("paper.fact", name=name), say("paper.fact-value", value=_as_told(name, value)))
                for name, value in case.facts.items()
                if name not in ("as_of_year",)
            ),
        ),
        Section(say("paper.found"), found_of(ledger, case.knowledge, case.facts)),
        Section(say("paper.carried-out"), rows=_carried_out(case)),
        Section(say("paper.data"), data_of(ledger)),
        Section(say("paper.now"), (*now_of(ledger), *left_of(ledger))),
        Section(say("paper.earlier"), rows=_earlier(case)),
    ]
    if case.odds:
        sections.append(
            Section(
                say("paper.signed-with", p=case.confidence or 0.0),
                rows=tuple((say("paper.fault-name", fault=f), say("paper.percent", p=p)) for f, p in case.odds.items()),
            )
        )
    if case.left:
        sections.append(
            Section(
                say("paper.settings"),
                rows=((say("paper.setting"), say("paper.as-found"), say("paper.as-left")), *case.left),
            )
        )
    if case.verdicts:
        sections.append(Section(say("paper.pages"), rows=tuple(case.verdicts)))
    if ledger.proof:
        sections.append(
            Section(
                say("paper.proof"),
                rows=tuple((p.name, _STATES[p.state], p.reason or (p.why or "")) for p in ledger.proof),
            )
        )
    sections.append(Section(say("paper.tape"), rows=tuple(case.tape)))
    if case.pictures:
        sections.append(Section(say("paper.pictures"), pictures=tuple(case.pictures)))
    return Paper(
        "file", say("paper.file-title"), _head(case), tuple(s for s in sections if s.lines or s.rows or s.pictures)
    )


def _earlier(case: PaperFacts) -> tuple[tuple[Text, ...], ...]:
    """A row for every sentence of every stay; the stay is named in its first one."""
    rows: list[tuple[Text, ...]] = []
    for stay in case.earlier:
        name: Text = say("paper.earlier-stay", number=stay.number, date=stay.ended)
        rows += [(name if i == 0 else "", line) for i, line in enumerate((*stay.found, *stay.done))]
    return tuple(rows)


def _carried_out(case: PaperFacts) -> tuple[tuple[Text, ...], ...]:
    return tuple((deed_of(d), result_of(case.knowledge, d.what, d.result)) for d in case.ledger.deeds)


def result_of(knowledge: Knowledge, what: str, result: str) -> Text:
    """How a deed stands, for the technician."""
    fix = knowledge.fixes.get(what)
    if fix is not None and result in fix.say:
        return fix.say[result]
    return say(f"paper.result-{result}")


# --- the log as a table ----------------------------------------------------------------------------------------------


def ledger_rows(case: PaperFacts) -> tuple[tuple[Text, ...], ...]:
    """The ledger as a table: of what kind, what, and how it stands. For a spreadsheet."""
    ledger = case.ledger
    rows: list[tuple[Text, ...]] = [("found", line, "") for line in found_of(ledger, case.knowledge, case.facts)]
    rows += [("done", what, result) for what, result in _carried_out(case)]
    rows += [("data", line, "") for line in data_of(ledger)]
    rows += [("now", line, "") for line in now_of(ledger)]
    rows += [("open", line, "") for line in left_of(ledger)]
    if ledger.part is not None:
        rows.append(("part", " · ".join(filter(None, (ledger.part.name, ledger.part.serial))), ""))
    bill = bill_of(case)
    rows += [("invoice", line.text, case.shop.money.text(line.amount)) for line in bill.lines]
    rows.append(("invoice", say("paper.bill-total"), case.shop.money.text(bill.total)))
    return tuple(rows)


# --- labels ----------------------------------------------------------------------------------------------------------


def _label(case: PaperFacts) -> Paper:
    labels = [Label(case.number, say("paper.label-machine"), (case.machine, case.customer), case.number)]
    if case.was_opened:
        labels.append(Label(case.number, say("paper.label-screws"), (case.machine,), case.number))
    if case.ledger.data.replaced and case.ledger.data.old != "destroyed":
        labels.append(
            Label(
                case.number,
                say("paper.label-old-drive"),
                (case.old_serial or say("paper.no-serial"), case.customer),
                case.number,
            )
        )
    return Paper("label", say("paper.label-title"), (), labels=tuple(labels))


# --- the bill --------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class BillLine:
    """What is charged, to the smallest coin; `tax` on it."""

    text: Text
    amount: Decimal
    tax: Decimal


@dataclass(frozen=True, slots=True)
class Bill:
    lines: tuple[BillLine, ...]
    net: Decimal
    tax: Decimal
    total: Decimal


def bill_of(case: PaperFacts) -> Bill:
    """Work by the whole minutes as they are printed times the rate as it is printed; the part that was really fitted;
    what the lab charged (fact `lab_price`). Tax rounded on every line or on their sum, as the shop has it."""
    shop, money = case.shop, case.shop.money
    if case.covered_by is not None:
        line = BillLine(say("paper.bill-covered", number=case.covered_by), money.rounded(0), money.rounded(0))
        return Bill((line,), line.amount, line.tax, line.amount)
    minutes, rate = round(case.minutes), money.rounded(shop.bench_hour)
    charged: list[tuple[Text, Decimal]] = [
        (say("paper.bill-work", minutes=minutes, hour=money.text(rate)), money.rounded(rate * minutes / 60))
    ]
    part, lab = case.ledger.part, case.facts.get("lab_price")
    if part is not None and part.price:
        charged.append((say("paper.bill-part", name=part.name), money.rounded(part.price)))
    if isinstance(lab, int | float) and not isinstance(lab, bool) and lab:
        charged.append((say("paper.bill-lab"), money.rounded(lab)))
    share = Decimal(str(shop.tax)) / 100
    lines = tuple(BillLine(text, amount, money.rounded(amount * share)) for text, amount in charged)
    net = sum((line.amount for line in lines), Decimal(0))
    tax = sum((line.tax for line in lines), Decimal(0)) if shop.tax_by == BY_LINE else money.rounded(net * share)
    return Bill(lines, net, tax, net + tax)


def _bill(case: PaperFacts) -> Paper:
    bill, money = bill_of(case), case.shop.money
    by_line = case.shop.tax and case.shop.tax_by == BY_LINE
    rows: list[tuple[Text, ...]] = []
    for line in bill.lines:
        text = say("paper.bill-taxed", text=line.text, tax=money.text(line.tax)) if by_line else line.text
        rows.append((text, money.text(line.amount)))
    if case.shop.tax:
        rows += [
            (say("paper.bill-net"), money.text(bill.net)),
            (say("paper.bill-tax", tax=case.shop.tax), money.text(bill.tax)),
        ]
    rows.append((say("paper.bill-total"), money.text(bill.total)))
    return Paper(
        "bill",
        say("paper.bill-title"),
        _head(case),
        (Section(say("paper.bill-what"), rows=tuple(rows), strong=True),),
        single=True,
    )


_MAKERS = {"customer": _customer, "file": _file, "label": _label, "bill": _bill}
