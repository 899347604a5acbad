"""The papers of a ticket, as sentences and rows: the customer's page, the technical sheet, labels, the bill. How they
look is the printer's business."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from gatecheck.core.belief.facts import FactValue
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.tape.entries import Entry, Part, Reading, StepDone
from gatecheck.core.words.said import Said, say
from gatecheck.core.work.job import Job
from gatecheck.core.work.proof import ProofLine
from gatecheck.core.work.shop import ShopPage

KINDS = ("customer", "file", "label", "bill")
_MOST_EVIDENCE, _MOST_DONE = 2, 6
_LONGEST_WORDS = 500
_TOLD_PLAINLY = ("reinstall", "replace-drive", "reset-clean", "reset-keep")
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
class PaperFacts:
    """Everything that the papers of one ticket rest on. Dates are ISO; `minutes`: hands-on, as spent or corrected.

    evidence: readings (move, outcome) that spoke most for what it was, best first. verdicts: (drive, one sentence).
    left: settings as found and as left."""

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
    entries: Sequence[Entry]
    stands: Sequence[bool]
    tape: Sequence[tuple[str, str, Text]]
    job: Job | None
    proof: Sequence[ProofLine]
    faults: Sequence[str]
    evidence: Sequence[tuple[str, str]]
    part: Part | None
    old_serial: str
    minutes: float
    odds: Mapping[str, float] = field(default_factory=dict)
    confidence: float | None = None
    left: Sequence[tuple[str, str, str]] = ()
    verdicts: Sequence[tuple[str, Text]] = ()
    pictures: Sequence[Picture] = ()


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
    sections = [
        Section(say("paper.came"), _came(case)),
        Section(say("paper.found"), _found(case), pictures=tuple(p for p in case.pictures if p.evidence)[:2]),
    ]
    sections.append(Section(say("paper.done"), _done(case)))
    sections.append(Section(say("paper.data"), _data(case)))
    if _is_replaced(case):
        sections.append(Section(say("paper.replaced"), rows=_replaced(case)))
    sections.append(
        Section(
            say("paper.backups"),
            (say("paper.backup-advice"), *((say("paper.backup-flash"),) if _is_flash(case) else ())),
        )
    )
    if case.shop.warranty_days and _way(case) not in ("nothing", "data-only") and case.job is not None:
        sections.append(Section(say("paper.warranty"), (say("paper.warranty-until", date=case.warranty_until),)))
    return Paper(
        "customer",
        say("paper.customer-title"),
        ((case.shop.opening,) if case.shop.opening else ()) + _head(case),
        tuple(sections),
        single=True,
    )


def _came(case: PaperFacts) -> tuple[Text, ...]:
    lines: list[Text] = []
    if case.said:
        lines.append(
            say("paper.you-said", words=case.said[:_LONGEST_WORDS] + ("…" if len(case.said) > _LONGEST_WORDS else ""))
        )
    first = next(
        (
            e
            for e, s in zip(case.entries, case.stands, strict=True)
            if s and isinstance(e, Reading) and e.move == "screen" and e.outcome
        ),
        None,
    )
    if first is not None and first.outcome != "boots":
        lines.append(say("paper.showed", screen=case.knowledge.checks["screen"].say[str(first.outcome)]))
    return tuple(lines) or (say("paper.nothing-said"),)


def _found(case: PaperFacts) -> tuple[Text, ...]:
    texts = {f.id: f for f in case.knowledge.faults}
    lines: list[Text] = [say("paper.fault", text=texts[f].text) for f in case.faults] or [say("paper.no-fault")]
    lines += [say("paper.proves", reading=list(pair)) for pair in case.evidence[:_MOST_EVIDENCE]]
    return tuple(lines)


def _done(case: PaperFacts) -> tuple[Text, ...]:
    way = _way(case)
    if way in ("nothing", "data-only"):
        return (say("paper.nothing-done") if way == "nothing" else say("paper.only-data"),)
    made = [
        e.move
        for e, s in zip(case.entries, case.stands, strict=True)
        if s
        and isinstance(e, Reading)
        and e.move in case.knowledge.fixes
        and e.outcome in ("boots", "now-seen", "other-screen", "sent", "complete", "partial")
    ]
    lines: list[Text] = [say("paper.made", fix=fix) for fix in list(dict.fromkeys(made))[:_MOST_DONE]]
    if case.job is not None:
        updates = [
            e.value
            for e, s in zip(case.entries, case.stands, strict=True)
            if s and isinstance(e, StepDone) and (e.step, e.answer) == ("updates", "round") and isinstance(e.value, int)
        ]
        lines += [say("paper.updates", count=sum(updates), rounds=len(updates))] if updates else []
    proven = [p for p in case.proof if p.state == "proven"]
    waived = [p for p in case.proof if p.state == "waived"]
    lines += [say("paper.proven", names=[p.name for p in proven])] if proven else []
    lines += [say("paper.left-open", names=[p.name for p in waived])] if waived else []
    return tuple(lines) or (say("paper.looked"),)


def _data(case: PaperFacts) -> tuple[Text, ...]:
    answers = _answers(case)
    back = answers.get("data-back")
    copied = next(
        (
            e.outcome
            for e, s in zip(reversed(case.entries), reversed(case.stands), strict=True)
            if s and isinstance(e, Reading) and e.move == "copy-data"
        ),
        None,
    )
    lines: list[Text] = []
    if back is not None and back.answer in ("checked", "partly"):
        lines.append(
            say("paper.data-back", what=str(back.value))
            if back.answer == "checked"
            else say("paper.data-partly", what=str(back.value))
        )
    elif copied in ("complete", "partial"):
        lines.append(say("paper.data-copied") if copied == "complete" else say("paper.data-copied-partly"))
    elif case.job is not None and case.job.fix in _TOLD_PLAINLY and _way(case) in ("install", "as-called"):
        lines.append(say("paper.data-not-kept"))
    else:
        lines.append(say("paper.data-untouched"))
    seen = answers.get("data-seen")
    if seen is not None and seen.answer == "seen":
        lines.append(say("paper.data-seen"))
    old = answers.get("old-drive")
    if old is not None:
        lines.append(
            {
                "back": say("paper.old-back"),
                "lab": say("paper.old-lab"),
                "destroyed": say("paper.old-destroyed", record=str(old.value or "")),
            }[old.answer]
        )
    return tuple(lines)


def _replaced(case: PaperFacts) -> tuple[tuple[Text, ...], ...]:
    assert case.part is not None
    return (
        (say("paper.old-drive"), case.old_serial or say("paper.no-serial")),
        (say("paper.new-drive"), " · ".join(filter(None, (case.part.name, case.part.serial)))),
    )


# --- for the file ----------------------------------------------------------------------------------------------------


def _file(case: PaperFacts) -> Paper:
    sections = [
        Section(
            say("paper.facts"),
            rows=tuple(
                (say("paper.fact", name=name), str(value))
                for name, value in case.facts.items()
                if name not in ("as_of_year",)
            ),
        )
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
    if case.proof:
        sections.append(
            Section(
                say("paper.proof"),
                rows=tuple((p.name, _STATES[p.state], p.reason or (p.why or "")) for p in case.proof),
            )
        )
    sections.append(Section(say("paper.tape"), rows=tuple(case.tape)))
    if case.pictures:
        sections.append(Section(say("paper.pictures"), pictures=tuple(case.pictures)))
    return Paper("file", say("paper.file-title"), _head(case), tuple(sections))


# --- labels ----------------------------------------------------------------------------------------------------------


def _label(case: PaperFacts) -> Paper:
    labels = [Label(case.number, say("paper.label-machine"), (case.machine, case.customer), case.number)]
    if case.job is not None and case.job.context["opens"] == "yes":
        labels.append(Label(case.number, say("paper.label-screws"), (case.machine,), case.number))
    if _is_replaced(case):
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
class Bill:
    """Amounts in the shop's currency, to the cent."""

    work: float
    parts: float
    lab: float
    net: float
    tax: float
    total: float


def bill_of(case: PaperFacts) -> Bill:
    """Work by the minutes really spent, the part, what the lab charged (fact `lab_price`); tax on all of it."""
    part = case.part.price if case.part is not None and _is_replaced(case) else 0.0
    lab = case.facts.get("lab_price")
    work = round(case.minutes / 60 * case.shop.bench_hour, 2)
    charged = round(float(lab), 2) if isinstance(lab, int | float) and not isinstance(lab, bool) else 0.0
    net = round(work + part + charged, 2)
    tax = round(net * case.shop.tax / 100, 2)
    return Bill(work, round(part, 2), charged, net, tax, round(net + tax, 2))


def _bill(case: PaperFacts) -> Paper:
    bill, unit = bill_of(case), case.shop.currency

    def money(amount: float) -> Said:
        return say("paper.money", amount=amount, currency=unit)

    rows: list[tuple[Text, ...]] = [
        (say("paper.bill-work", minutes=case.minutes, hour=case.shop.bench_hour, currency=unit), money(bill.work))
    ]
    if bill.parts and case.part is not None:
        rows.append((say("paper.bill-part", name=case.part.name), money(bill.parts)))
    if bill.lab:
        rows.append((say("paper.bill-lab"), money(bill.lab)))
    if case.shop.tax:
        rows += [(say("paper.bill-net"), money(bill.net)), (say("paper.bill-tax", tax=case.shop.tax), money(bill.tax))]
    rows.append((say("paper.bill-total"), money(bill.total)))
    return Paper(
        "bill",
        say("paper.bill-title"),
        _head(case),
        (Section(say("paper.bill-what"), rows=tuple(rows), strong=True),),
        single=True,
    )


# --- what the papers ask of the case ---------------------------------------------------------------------------------


def _answers(case: PaperFacts) -> dict[str, StepDone]:
    return {e.step: e for e, s in zip(case.entries, case.stands, strict=True) if s and isinstance(e, StepDone)}


def _way(case: PaperFacts) -> str:
    return case.job.context["way"] if case.job is not None else ""


def _is_replaced(case: PaperFacts) -> bool:
    new = _answers(case).get("new-in")
    return case.part is not None and new is not None and new.answer == "in"


def _is_flash(case: PaperFacts) -> bool:
    return case.facts.get("drive_kind") in ("nvme", "sata-ssd", "emmc") or _is_replaced(case)


_MAKERS = {"customer": _customer, "file": _file, "label": _label, "bill": _bill}
