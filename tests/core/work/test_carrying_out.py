"""Jobs from the tables: each walks to its end, every step has a job, and what a step is told with is what was read."""

from __future__ import annotations

import dataclasses
from itertools import product
from typing import Any

import pytest
from msgspec.structs import replace

from gatecheck.adapters.shipped_tables import shipped_texts, shipped_words
from gatecheck.core.belief.model import Model
from gatecheck.core.errors import KnowledgeError, TapeError
from gatecheck.core.instruments.keys import machine_of
from gatecheck.core.knowledge.loader import load
from gatecheck.core.tape.entries import Entry, Part, RemovedGroup, Signed, StepDone
from gatecheck.core.tape.fold import TicketState, fold
from gatecheck.core.tape.parse import parse_entry
from gatecheck.core.work.hints import JobKnowledge, hints_of
from gatecheck.core.work.job import Job, SeenDrive, answer_bodies, check_last4, job_of
from gatecheck.core.work.parts import Item, ShelfError, fitting, read_shelf, wanted_of, write_shelf
from gatecheck.core.work.strip import OpenedMachine, guide_for, known_as
from gatecheck.core.work.tray import TrayGroup
from walks import FACTS


def state_of(model: Model, facts: dict[str, Any]) -> TicketState:
    return replace(fold(model, facts, []), signed=0)


def job(model: Model, state: TicketState, entries: list[Entry]) -> Job:
    found = job_of(model.knowledge, state, entries, [True] * len(entries))
    assert found is not None
    return found


def walked(model: Model, facts: dict[str, Any], choice: str, fix: str | None, way: str | None = None) -> list[str]:
    """Every step of the job in the order taken, each answered with the first answer that leads on."""
    state, entries = state_of(model, facts), [Signed(choice, fix)]
    taken = []
    while (now := job(model, state, [*entries]).now) is not None:
        assert sum(s.state == "now" for s in job(model, state, [*entries]).steps) == 1
        answer = (
            now.step.answers[way]
            if now.step.is_way and way in now.step.answers
            else next(a for a in now.step.answers.values() if a.leads == "on")
        )
        taken.append(now.step.id)
        assert len(taken) == len(set(taken)), taken
        entries.append(StepDone(now.step.id, answer.id, None, answer.leads))
    return taken


def test_every_job_walks_to_its_end_and_every_step_has_one(model: Model) -> None:
    seen: set[str] = set()
    for fix, platform, form in product(
        model.knowledge.fixes.values(), ("pc", "mac"), ("laptop", "desktop", "all-in-one")
    ):
        facts = {
            **FACTS,
            "platform": platform,
            "form": form,
            "installed_os": "macos" if platform == "mac" else "windows-10",
        }
        ways = {
            w for s in model.knowledge.work.steps.values() if s.is_way and fix.call in s.when["call"] for w in s.answers
        } or {None}
        for way in ways:
            taken = walked(model, facts, fix.call, fix.id, way)
            seen.update(taken)
            assert taken.index("strip") < taken.index("close") if "strip" in taken else "detected" not in taken
            if "right-drive" in taken and "begin" in taken:
                assert taken.index("right-drive") < taken.index("begin")
    seen.update(walked(model, FACTS, "release", None))
    in_doubt = {"clock", "settings-again"}
    assert set(model.knowledge.work.steps) - seen == in_doubt, "what is proven only where it was in doubt"


@pytest.mark.parametrize(
    ("facts", "choice", "fix", "there", "absent"),
    [
        pytest.param(
            {},
            "replace",
            "replace-drive",
            {"carrier", "licence", "data-back"},
            {"recovery", "startup-disk"},
            id="a laptop's disk",
        ),
        pytest.param(
            {"drive_kind": "nvme"},
            "replace",
            "replace-drive",
            {"strip"},
            {"carrier"},
            id="no carrier for a stick of flash",
        ),
        pytest.param(
            {"form": "desktop"}, "reinstall", "reinstall", {"begin"}, {"mains", "strip"}, id="a desktop is on mains"
        ),
        pytest.param(
            {"platform": "mac", "installed_os": "macos"},
            "reinstall",
            "reinstall",
            {"recovery", "startup-disk"},
            {"media", "stick-out", "order-again", "activation"},
            id="no setup screen (Mac)",
        ),
        pytest.param(
            {"installed_os": "linux"},
            "reinstall",
            "reinstall",
            {"updates"},
            {"licence", "activation"},
            id="nothing to activate",
        ),
        pytest.param({"data": "none"}, "reinstall", "reinstall", {"begin"}, {"data-back", "data-seen"}, id="no data"),
        pytest.param(
            {}, "repair", "set-order", {"setting", "cold-1"}, {"strip", "power-off"}, id="a setting opens nothing"
        ),
        pytest.param({}, "repair", "replace-battery", {"battery", "close"}, {"carrier"}, id="a battery is inside"),
    ],
)
def test_a_job_is_of_its_machine(
    model: Model, facts: dict[str, Any], choice: str, fix: str, there: set[str], absent: set[str]
) -> None:
    taken = set(walked(model, {**FACTS, **facts}, choice, fix))
    assert there <= taken
    assert not absent & taken


def test_what_an_answer_weighs_stands_in_the_table(model: Model) -> None:
    """Every reading that may follow from an answer is one that the tape takes."""
    state = state_of(model, FACTS)
    for fix in model.knowledge.fixes.values():
        own = job(model, state, [Signed(fix.call, fix.id)])
        for step in own.steps:
            for answer in step.step.answers.values():
                value = (
                    {"screen": "blank-cursor", "count": 2019}.get(answer.asks or "", "0815") if answer.asks else None
                )
                if answer.asks == "last4" or (step.step.empties and own.tray):
                    continue
                for place, body in enumerate(answer_bodies(own, state, step.step.id, answer.id, value, 1)):
                    parse_entry(body, 1 + place, model.knowledge)


NEW, OLD = SeenDrive("QUARRY FLINT 500", "QF2-000815", 500), SeenDrive("QUARRY SPINDLE 500", "QS5-120774", 500)


@pytest.mark.parametrize(("choice", "drives", "typed", "said"), [
    pytest.param("replace", [OLD], "0815", None, id="the new one"),
    pytest.param("replace", [OLD], "0774", "which is QUARRY SPINDLE 500, QS5-120774", id="the old one"),
    pytest.param("reinstall", [OLD], "0774", None, id="its own"),
    pytest.param("reinstall", [OLD], "0815", "the last four characters of QS5-120774", id="none of its own"),
    pytest.param("reinstall", [OLD, NEW], "0815", None, id="one of two that were read"),
    pytest.param("reinstall", [OLD, NEW], "9999", "those of a drive that was read here", id="neither of two"),
    pytest.param("reinstall", [], "9999", None, id="nothing was read"),
    pytest.param("reinstall", [OLD], "774", "last four characters", id="three characters"),
])  # fmt: skip
def test_the_guard_of_the_wrong_drive(
    model: Model, choice: str, drives: list[SeenDrive], typed: str, said: str | None
) -> None:
    fix = "replace-drive" if choice == "replace" else "reinstall"
    own = job(model, state_of(model, FACTS), [Signed(choice, fix), Part(1, NEW.name, NEW.serial, 500, 62)])
    if said is None:
        check_last4(own, typed, drives)
    else:
        with pytest.raises(TapeError, match="right-drive") as refused:
            check_last4(own, typed, drives)
        assert said in str(refused.value)


def test_a_new_drive_without_a_serial_is_at_least_not_the_old_one(model: Model) -> None:
    own = job(model, state_of(model, FACTS), [Signed("replace", "replace-drive"), Part(None, "theirs", "", 500, 0)])
    check_last4(own, "0815", [OLD])
    with pytest.raises(TapeError, match="the new drive's serial, got 0774, which is QUARRY SPINDLE 500"):
        check_last4(own, "0774", [OLD])


def hints(model: Model, step: str, entries: list[Entry], known: JobKnowledge, **facts: Any) -> list[str]:
    facts = {**FACTS, **facts}
    own = job(model, state_of(model, facts), entries)
    found = own.find(step)
    assert found is not None
    return [
        shipped_words().say(h)
        for h in hints_of(model.knowledge, facts, own, found, entries, [True] * len(entries), known)
    ]


@pytest.mark.parametrize(
    ("step", "more", "known", "facts", "said"),
    [
        ("licence", [], {}, {}, ["The firmware's tables were not read here."]),
        ("licence", [], {"licence": True}, {}, ["The firmware has a licence table. Its key was not read."]),
        ("licence", [], {"licence": False}, {}, ["The firmware has no licence table."]),
        (
            "media",
            [],
            {"picker": "F12"},
            {"disk_layout": "mbr"},
            ["Partition table is MBR: start the stick in legacy mode.", "Boot menu: F12."],
        ),
        (
            "media",
            [],
            {},
            {"installed_os": "unknown"},
            ["Partition table unknown: UEFI with GPT where the firmware offers it."],
        ),
        ("account", [], {}, {"account": "local"}, ["Local account wanted: stay offline until it is made."]),
        (
            "right-drive",
            [Part(1, NEW.name, NEW.serial, 500, 62)],
            {"drives": [OLD]},
            {},
            [
                "This one: QUARRY FLINT 500, QF2-000815, 500 GB.",
                "Not this one: QUARRY SPINDLE 500, QS5-120774, 500 GB.",
                "Two of them have nearly the same size: use only the serial number.",
            ],
        ),
        (
            "label",
            [StepDone("label", "read", "QS5 120774", "on")],
            {"drives": [OLD]},
            {},
            ["The label says QS5 120774: the drive that was read."],
        ),
        (
            "label",
            [StepDone("label", "read", "QS5-999999", "on")],
            {"drives": [OLD]},
            {},
            ["The label says QS5-999999, the drive that was read is QS5-120774: another drive."],
        ),
        (
            "new-in",
            [StepDone("carrier", "label-down-left", None, "on")],
            {},
            {},
            ["Old drive: label down, plug left."],
        ),
        ("made", [], {}, {"drive_year": 2019, "as_of_year": 2026}, ["The ticket says 2019: 7 years old."]),
        (
            "close",
            [RemovedGroup("Base cover", "screw", 8, "6 mm", (1,))],
            {},
            {},
            ["8 parts still out; refit next: base cover."],
        ),
        (
            "updates",
            [StepDone("updates", "round", 14, "again"), StepDone("updates", "round", 3, "again")],
            {"minutes": [0, 0, 25]},
            {},
            ["2 rounds, 17 updates, 25 min."],
        ),
    ],
)
def test_a_step_is_told_with_what_was_read(
    model: Model, step: str, more: list[Entry], known: dict[str, Any], facts: dict[str, Any], said: list[str]
) -> None:
    everything: dict[str, Any] = {
        "drives": [],
        "licence": None,
        "picker": None,
        "changed": [],
        "minutes": [0.0] * 9,
        **known,
    }
    assert hints(model, step, [Signed("replace", "replace-drive"), *more], JobKnowledge(**everything), **facts) == said


# --- parts ----------------------------------------------------------------------------------------------------------


def item(name: str, interface: str = "sata", form: str = "2.5", size: float = 500, **more: Any) -> Item:
    own: dict[str, Any] = {
        "key": "m" if form == "m2" else "",
        "height_mm": 7.0,
        "length_mm": 0.0,
        "flash": True,
        "price": 60.0,
        "count": 1,
        "left": 1,
        **more,
    }
    return Item(1, "drive", name, interface, form, size_gb=size, **own)


@pytest.mark.parametrize(
    ("facts", "part", "said"),
    [
        pytest.param({}, item("a"), None, id="fits"),
        pytest.param({}, item("a", "nvme", "m2"), "Interface NVME, this machine takes SATA.", id="interface"),
        pytest.param({}, item("a", form="3.5", height_mm=26.0), "3.5 inch, the bay takes 2.5 inch.", id="form"),
        pytest.param({}, item("a", height_mm=12.5), "12.5 mm high, the bay takes 9.5 mm.", id="height"),
        pytest.param(
            {"slot_height": 7}, item("a", height_mm=9.5), "9.5 mm high, the bay takes 7 mm.", id="measured height"
        ),
        pytest.param({"used_gb": 480}, item("a", size=250), "250 GB, and 480 GB are used.", id="in use"),
        pytest.param(
            {"drive_size_gb": 500},
            item("a", size=250),
            "250 GB, the old drive has 500 GB and the used space is unknown.",
            id="not known how much",
        ),
        pytest.param({"drive_size_gb": 500, "used_gb": 100}, item("a", size=250), None, id="smaller and large enough"),
        pytest.param({}, item("a", left=0), "Out of stock.", id="none left"),
        pytest.param(
            {"drive_kind": "nvme"},
            item("a", "nvme", "m2", length_mm=110.0),
            "110 mm long, the bay takes 80 mm.",
            id="length",
        ),
        pytest.param(
            {"drive_kind": "nvme"}, item("a", "nvme", "m2", key="b"), "M.2 key B, this machine takes key M.", id="key"
        ),
        pytest.param({"drive_kind": "nvme"}, item("a", "nvme", "m2", key="b+m"), None, id="either key"),
        pytest.param({"form": "desktop"}, item("a"), None, id="a small one in a large place"),
    ],
)
def test_which_drive_fits_and_why_another_does_not(
    model: Model, facts: dict[str, Any], part: Item, said: str | None
) -> None:
    found = fitting([part], wanted_of(model.knowledge.work.slots, {**FACTS, **facts}))[0]
    assert found.fits == (said is None)
    if said:
        assert shipped_words().say(found.why[0]) == said


def test_the_same_size_stands_first_and_flash_before_a_disk(model: Model) -> None:
    shelf = [
        item("large", size=1000),
        item("disk", flash=False, price=40.0),
        item("flash"),
        item("cheap flash", price=50.0),
    ]
    found = fitting(shelf, wanted_of(model.knowledge.work.slots, {**FACTS, "drive_size_gb": 480, "used_gb": 100}))
    assert [f.item.name for f in found] == ["cheap flash", "flash", "disk", "large"]
    assert "costs 10 more" in " ".join(shipped_words().say(w) for w in found[0].why)


def test_a_shelf_is_read_back_as_it_was_written() -> None:
    items = [item("A, with a comma", size=250.5), item('"quoted"', "nvme", "m2", price=0.5)]
    assert [dataclasses.replace(i, id=1) for i in read_shelf(write_shelf(items))] == items


@pytest.mark.parametrize(
    ("text", "said"),
    [
        pytest.param("", "an empty file", id="empty"),
        pytest.param("name,price\nA,3\n", "line 1, header: expected the columns", id="columns missing"),
        pytest.param("name,interface,form,size_gb,price,name\n", "line 1, header", id="a column twice"),
        pytest.param(
            "name,interface,form,size_gb,price\nA,sata,2.5,500\n",
            "line 2, row: expected as many cells",
            id="a cell missing",
        ),
        pytest.param(
            "name,interface,form,size_gb,price\nA,sata,2.5,many,3\n",
            "line 2, size_gb: expected a number",
            id="no number",
        ),
        pytest.param(
            "name,interface,form,size_gb,price\nA,sata,2.5,nan,3\n", "line 2, size_gb: expected a number", id="nan"
        ),
        pytest.param(
            "name,interface,form,size_gb,price,count\nA,sata,2.5,500,3,1.5\n",
            "line 2, count: expected a whole number",
            id="half a drive",
        ),
        pytest.param(
            "name,interface,form,size_gb,price\n\n,sata,2.5,500,3\nB,scsi,2.5,500,3\n",
            "line 4, interface: expected one of sata",
            id="two lines",
        ),
        pytest.param("name;interface;form;size_gb;price\nA;sata;2.5;1e99;3\n", "line 2, size_gb", id="semicolons"),
    ],
)
def test_a_wrong_line_of_a_shelf_is_named(text: str, said: str) -> None:
    with pytest.raises(ShelfError, match="line") as refused:
        read_shelf(text)
    assert said in str(refused.value)


# --- opening --------------------------------------------------------------------------------------------------------


def opened(name: str, form: str, *groups: str, minutes: float = 9) -> OpenedMachine:
    return OpenedMachine(
        machine_of(name, "pc"), name, form, tuple(RemovedGroup(g, "screw", 2, "", ()) for g in groups), minutes
    )


BOOK = [
    opened("Ferrow Lathe-14", "laptop", "Feet", "Base", minutes=22),
    opened("Ferrow Lathe-15", "laptop", "Base"),
    opened("Ferrow Adze-22", "desktop", "Side"),
    opened("Ferrow Lathe-14", "laptop", "Feet", "Base", "Cage"),
]


@pytest.mark.parametrize(
    ("name", "form", "level", "machines", "first"),
    [
        ("Ferrow Lathe-14", "laptop", "model", 2, "Feet"),
        ("Ferrow Lathe-17", "laptop", "series", 3, "Feet"),
        ("Ferrow Chisel-9", "laptop", "maker", 3, "Feet"),
        ("Ostler Bracken-15", "desktop", "form", 1, "Side"),
        ("Ostler Bracken-15", "all-in-one", None, 0, None),
    ],
)
def test_the_nearest_that_was_opened_here_speaks(
    name: str, form: str, level: str | None, machines: int, first: str | None
) -> None:
    guide = guide_for(BOOK, machine_of(name, "pc"), form)
    assert (
        guide.level if guide else None,
        guide.machines if guide else 0,
        guide.groups[0].name if guide else None,
    ) == (level, machines, first)


def test_a_model_opens_faster_the_second_time() -> None:
    guide = guide_for(BOOK, machine_of("Ferrow Lathe-14", "pc"), "laptop")
    assert guide is not None
    assert (guide.first_minutes, guide.minutes, len(guide.groups)) == (22, 9, 3)


@pytest.mark.parametrize(
    ("typed", "known"),
    [("Ferow Lathe-14", "Ferrow Lathe-14"), ("ferrow lathe-14", None), ("Toaster", None), ("", None)],
)
def test_a_slip_in_a_name_offers_the_one_that_is_known(typed: str, known: str | None) -> None:
    assert known_as(typed, [o.name for o in BOOK]) == known


# --- tables ---------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('leads = { none = "again" }', 'leads = { nothing = "again" }', "expected one of reserved, theirs, none"),
        ('way = ["nothing"]', 'weigh = ["nothing"]', "weigh: expected one of"),
        (
            'weighs = { none = ["drive-marks=none"]',
            'weighs = { none = ["drive-marks=fine"]',
            "expected a known id and one of its values",
        ),
        ('needs = ["power-off"]', 'needs = ["power-on"]', "expected known ids"),
        ('held_by = ["stop-running"]', 'held_by = ["stop"]', "expected known ids"),
        ('due = { after = "run"', 'due = { after = "ran"', "after: expected one of"),
        ('asks = { theirs = "serial" }', 'asks = { theirs = "name" }', "expected one of text, count"),
    ],
)
def test_a_table_that_names_what_is_not_there_is_refused(old: str, new: str, said: str) -> None:
    texts = shipped_texts()
    assert old in texts["work.toml"]
    with pytest.raises(KnowledgeError, match=r"work\.toml") as refused:
        load({**texts, "work.toml": texts["work.toml"].replace(old, new, 1)})
    assert said in str(refused.value)


def test_a_tray_entry_out_of_bounds_is_refused(model: Model) -> None:
    for bad in (
        {"out": ""},
        {"out": "x", "count": 0},
        {"out": "x", "fields": [10]},
        {"out": "x", "what": "door"},
        {"back": 5},
        {"part": {"name": "x", "price": -1}},
        {"part": {"colour": "red"}},
    ):
        with pytest.raises(TapeError, match="entry 3"):
            parse_entry(bad, 3, model.knowledge)
    assert TrayGroup(0, RemovedGroup("x", "screw", 2, "", ()), None, 0).is_removed
