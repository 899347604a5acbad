"""Carrying out over HTTP: a signed call becomes a job, its steps stand on the tape, what goes wrong leads back into
triage, what is open is not handed over."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import pytest
from fastapi.testclient import TestClient

from gatecheck.core.work.parts import COLUMNS

Json = dict[str, Any]
LAPTOP = {
    "platform": "pc",
    "form": "laptop",
    "installed_os": "windows-10",
    "drive_kind": "hdd",
    "drive_size_gb": 500,
    "data": "backed-up",
    "mains": "connected",
}
SHELF = """kind,name,interface,form,height_mm,flash,size_gb,price,count
drive,QUARRY FLINT 500,sata,2.5,7,yes,500,62,2
drive,QUARRY SPINDLE 500,sata,2.5,9.5,no,500,41,1
drive,QUARRY SPINDLE 1000,sata,3.5,26,no,1000,48,4
drive,QUARRY FLINT N250,nvme,m2,2.2,yes,250,38,1
"""


class Bench:
    """What a technician does, one call each."""

    def __init__(self, client: TestClient) -> None:
        self.client = client

    def post(self, path: str, expect: int = 201, **body: Any) -> Json:
        answer = self.client.post(f"/api{path}", json=body)
        assert answer.status_code == expect, answer.text
        return dict(answer.json())

    def signed(
        self, choice: str, fix: str | None, *readings: str, machine: str = "Ferrow Lathe-14", **facts: Any
    ) -> int:
        entries = [{"move": m, "outcome": o} for m, _, o in (r.partition("=") for r in readings)]
        number = int(
            self.post(
                "/tickets",
                customer="Choir office",
                machine=machine,
                facts={**LAPTOP, **facts},
                entries=entries,
                by="KT",
            )["id"]
        )
        self.post(f"/tickets/{number}/entries", entry={"signed": choice, "fix": fix}, by="KT")
        return number

    def work(self, number: int) -> Json:
        return dict(self.client.get(f"/api/tickets/{number}/work").json())

    def now(self, number: int) -> str | None:
        return next((s["id"] for s in self.work(number)["steps"] if s["state"] == "now"), None)

    def answer(self, number: int, step: str, answer: str, value: Any = None, expect: int = 201, by: str = "KT") -> Json:
        return self.post(f"/tickets/{number}/steps/{step}", expect, answer=answer, value=value, by=by)

    def ticket(self, number: int) -> Json:
        return dict(self.client.get(f"/api/tickets/{number}").json())

    def walk(self, number: int, told: Mapping[str, tuple[str, Any]], upto: str | None = None) -> list[str]:
        """Answer whatever is in hand, as told or with its first answer, until it is `upto` or nothing is left."""
        walked = []
        while (step := self.now(number)) is not None and step != upto:
            walked.append(step)
            assert len(walked) < 60, walked
            own = next(s for s in self.work(number)["steps"] if s["id"] == step)
            first = next(
                a
                for a in own["answers"]
                if (a["leads"] == "on" and a["asks"] is None) or a["id"] in told.get(step, ("",))
            )
            answer, value = told.get(step, (first["id"], None))
            self.answer(number, step, answer, value)
        return walked


@pytest.fixture
def bench(client: TestClient) -> Bench:
    own = Bench(client)
    own.post("/shelf", csv=SHELF, by="KT")
    return own


REPLACED = {
    "missed": ("noted", "mail store of the choir, printer in the hall"),
    "label": ("read", "QS7-310222"),
    "made": ("year", 2019),
    "marks": ("dented", "the hinge"),
    "right-drive": ("this", "0815"),
    "data-back": ("checked", "4 folders, 12,804 files, 212 GB"),
    "data-seen": ("seen", None),
    "updates": ("none", None),
}


def test_a_replacement_from_the_signature_to_the_handover(bench: Bench) -> None:
    number = bench.signed("replace", "replace-drive", "sound=ticking")
    fits = [f for f in bench.client.get(f"/api/tickets/{number}/parts").json()["drives"] if f["fits"]]
    assert [f["item"]["name"] for f in fits] == ["QUARRY FLINT 500", "QUARRY SPINDLE 500"]
    before = bench.walk(number, REPLACED, upto="part")
    assert before == ["way-replace", "edition", "licence", "missed"]
    bench.post(f"/tickets/{number}/part", shelf=fits[0]["item"]["id"], serial="QF2-000815", by="KT")
    assert bench.now(number) == "mains"
    bench.walk(number, REPLACED, upto="strip")
    out = [
        int(bench.post(f"/tickets/{number}/tray", name=name, count=count, fields=[1, 3], by="KT")["tape"][-1]["place"])
        for name, count in (("Rear feet", 2), ("Base cover", 8))
    ]
    walked = bench.walk(number, REPLACED, upto="close")
    assert walked == ["strip", "marks", "label", "made", "carrier", "new-in", "detected"]
    refused = bench.answer(number, "close", "closed", expect=422)
    assert "empty tray" in refused["detail"]
    assert "Base cover" in refused["detail"]
    for place in reversed(out):
        bench.post(f"/tickets/{number}/tray/{place}/back", by="KT")
    walked = bench.walk(number, REPLACED)
    assert walked[:6] == ["close", "new-pages", "media", "right-drive", "unallocate", "begin"]
    assert "stick-out" in walked
    ticket = bench.ticket(number)
    assert ticket["facts"]["drive_year"] == 2019
    assert all(g["state"] == "open" for g in ticket["gates"])
    assert ticket["signed"] is not None
    assert ticket["job"]["step"] is None
    assert ticket["job"]["unproven"] == 0
    assert {p["id"]: p["state"] for p in bench.work(number)["proof"]} == dict.fromkeys(
        ("cold-1", "cold-2", "size", "new-short", "data-seen", "no-trial", "screws"), "proven"
    )
    bench.post(f"/tickets/{number}/handover", 200, proven=["drive.mechanical"], by="KT")


def test_each_way_that_customers_ask_for_has_its_own_job(bench: Bench) -> None:
    found = {}
    for way in ("install", "copy-back", "they-install", "data-only", "nothing"):
        number = bench.signed("replace", "replace-drive")
        bench.answer(number, "way-replace", way)
        work = bench.work(number)
        found[way] = (work["name"], {s["id"] for s in work["steps"]}, [p["id"] for p in work["proof"]])
    assert len({name for name, _, _ in found.values()}) == 5
    assert "begin" in found["install"][1]
    assert "bring-back" not in found["install"][1]
    assert "bring-back" in found["copy-back"][1]
    assert not found["copy-back"][1] & {"begin", "account", "updates"}
    assert "new-in" in found["they-install"][1]
    assert not found["they-install"][1] & {"begin", "cold-1"}
    assert "copy" in found["data-only"][1]
    assert not found["data-only"][1] & {"new-in", "strip", "cold-1"}
    assert found["nothing"][1] == {"way-replace", "as-found"}
    assert found["nothing"][2] == ["no-trial"]


def test_a_repair_that_fails_goes_back_into_triage_with_what_it_showed(bench: Bench) -> None:
    number = bench.signed(
        "repair", "repair-volume", "screen=repair-loop", "live-start=runs", "volume-look=dirty", "health-pages=clean"
    )
    p = {s["fault"]: s["p"] for s in bench.ticket(number)["suspects"]}
    bench.walk(number, {"which-installation": ("only-one", None), "way-back": ("copy", None)}, upto="cold-1")
    after = bench.answer(number, "cold-1", "stops", "repair-loop")
    assert (after["signed"], after["job"]) == (None, None), "the call has to be made anew"
    bodies = [e["body"] for e in after["tape"][-3:]]
    assert [b.get("step") or b["move"] for b in bodies] == ["cold-1", "repair-volume", "screen"]
    assert bodies[1]["outcome"] == "no-change"
    assert {s["fault"]: s["p"] for s in after["suspects"]}["volume.damaged"] < p["volume.damaged"]
    back = bench.post(f"/tickets/{number}/entries", entry={"undo": after["tape"][-3]["place"]}, by="KT")
    assert bench.now(number) == "cold-1", "a step taken back takes back what followed from it"
    assert not back["tape"][-2]["stands"]
    assert not back["tape"][-3]["stands"]


def test_a_loose_drive_is_called_and_proven(bench: Bench) -> None:
    number = bench.signed("repair", "reseat", "screen=no-boot-device", "seen-setup=absent", data="irreplaceable")
    walked = bench.walk(number, {"reseat": ("loose", None)})
    assert walked == [
        "way-other",
        "power-off",
        "strip",
        "marks",
        "reseat",
        "detected",
        "close",
        "cold-1",
        "cold-2",
        "size",
        "data-seen",
    ]
    assert bench.ticket(number)["job"]["unproven"] == 0


def test_a_machine_that_started_before_the_call_only_has_to_be_proven(bench: Bench) -> None:
    number = bench.signed(
        "repair", "reseat", "screen=no-boot-device", "seen-setup=absent", "clock=wrong", "reseat=boots"
    )
    assert [s["id"] for s in bench.work(number)["steps"]] == ["way-other", "cold-1", "cold-2", "clock", "data-seen"]


@pytest.mark.parametrize(
    ("step", "answer", "value", "said"),
    [
        pytest.param("right-drive", "this", "0222", "QF2-000815 (QUARRY FLINT 500)", id="the old drive"),
        pytest.param("right-drive", "this", "15", "last four characters", id="two characters"),
        pytest.param("right-drive", "this", None, "last four characters", id="nothing typed"),
        pytest.param("right-drive", "of-course", None, "one of this, cannot-tell", id="no such answer"),
        pytest.param("begin", "running", "1", "nothing beside the answer", id="more than it asks"),
        pytest.param("shave", "done", None, "a step of this job", id="no such step"),
        pytest.param("way-replace", "install", None, "one that entry", id="answered before"),
        pytest.param("reseat", "loose", None, "a step of this job", id="another job's"),
    ],
)
def test_what_is_not_so_is_said_in_one_sentence_and_nothing_is_kept(
    bench: Bench, step: str, answer: str, value: Any, said: str
) -> None:
    number = bench.signed("replace", "replace-drive")
    bench.answer(number, "way-replace", "install")
    bench.post(f"/tickets/{number}/part", shelf=1, serial="QF2-000815", by="KT")
    length = len(bench.ticket(number)["tape"])
    assert said in bench.answer(number, step, answer, value, expect=422)["detail"]
    assert len(bench.ticket(number)["tape"]) == length


def test_two_screens_answer_one_step_once(bench: Bench) -> None:
    number = bench.signed("replace", "replace-drive")
    one = {"answer": "install", "by": "KT", "key": "k-1"}
    for _ in range(2):
        bench.post(f"/tickets/{number}/steps/way-replace", **one)  # the same request twice is one answer
    assert "one that entry" in bench.answer(number, "way-replace", "nothing", expect=422, by="MO")["detail"]
    assert sum("step" in e["body"] for e in bench.ticket(number)["tape"]) == 1


def test_a_step_is_brought_forward_where_nothing_forbids_it_and_left_out_with_a_reason(bench: Bench) -> None:
    number = bench.signed("replace", "replace-drive")
    bench.answer(number, "way-replace", "install")
    assert "first: Open the case" in bench.post(f"/tickets/{number}/steps/label/first", 422, by="KT")["detail"]
    bench.post(f"/tickets/{number}/steps/mains/first", by="KT")
    assert bench.now(number) == "mains"
    bench.answer(number, "mains", "connected")
    assert bench.now(number) == "edition"
    bench.post(f"/tickets/{number}/steps/edition/waive", 422, reason=" ", by="KT")
    bench.post(f"/tickets/{number}/steps/edition/waive", reason="They bring their own media", by="KT")
    assert bench.now(number) == "licence"


def test_a_machine_is_handed_over_proven_or_with_what_was_waived_and_why(bench: Bench) -> None:
    number = bench.signed("release", None, "screen=boots", data="none")
    refused = bench.post(f"/tickets/{number}/handover", 409, proven=[], by="KT")
    assert "Cold start" in refused["detail"]
    closed = bench.post(
        f"/tickets/{number}/handover", 200, proven=[], waive="They are in the door and want it now", by="KT"
    )
    assert [e["body"]["waive"] for e in closed["tape"] if "waive" in e["body"]] == ["cold-1", "cold-2"]


def test_a_reading_that_speaks_against_the_call_ends_its_job_and_the_same_call_goes_on_where_it_was(
    bench: Bench,
) -> None:
    number = bench.signed("replace", "replace-drive")
    bench.answer(number, "way-replace", "install")
    bench.post(f"/tickets/{number}/entries", entry={"move": "health-pages", "outcome": "clean"}, by="KT")
    assert bench.ticket(number)["job"] is None
    assert "a signed call" in bench.answer(number, "edition", "home", expect=422)["detail"]
    bench.post(f"/tickets/{number}/entries", entry={"signed": "replace", "fix": "replace-drive"}, by="KT")
    assert bench.now(number) == "edition"
    bench.post(f"/tickets/{number}/entries", entry={"signed": "reinstall", "fix": "reinstall"}, by="KT")
    assert bench.now(number) == "way-other", "another call is another job"


def test_what_destroys_waits_for_its_interlock(bench: Bench) -> None:
    number = bench.signed("reinstall", "reinstall", "screen=volume-stop", data="irreplaceable")
    bench.walk(number, {"missed": ("nothing", None)}, upto="customer-yes")
    bench.post(f"/tickets/{number}/steps/customer-yes/waive", reason="On the phone later", by="KT")
    bench.walk(number, {}, upto="right-drive")
    step = next(s for s in bench.work(number)["steps"] if s["id"] == "right-drive")
    assert [h["interlock"] for h in step["held"]] == ["data-unprotected"]
    assert "data-unprotected" in bench.answer(number, "right-drive", "this", "0222", expect=422)["detail"]
    bench.post(f"/tickets/{number}/entries", entry={"fact": {"consent": "given"}}, by="KT")
    bench.answer(number, "right-drive", "this", "0222")


def test_the_stick_prompt_is_due_when_the_first_restart_is(bench: Bench) -> None:
    number = bench.signed("reinstall", "reinstall", "screen=repair-loop", consent="given")
    bench.walk(number, {"missed": ("nothing", None), "right-drive": ("this", "0222")}, upto="stick-out")
    job = bench.ticket(number)["job"]
    begun = next(e["made_at"] for e in reversed(bench.ticket(number)["tape"]) if e["body"].get("step") == "begin")
    assert job["step"] == "stick-out"
    assert job["due_at"] > begun
    row = next(r for r in bench.client.get("/api/bench").json()["rows"] if r["id"] == number)
    assert row["turn"] == "running"
    assert row["job"]["step_name"] == "Remove the stick at the first restart"
    bench.answer(number, "stick-out", "over")
    assert bench.now(number) == "stick-out"
    assert bench.work(number)["steps"][-1]["state"] == "later"


def test_a_part_is_not_sold_twice_and_free_again_when_it_is_taken_back(bench: Bench) -> None:
    one, two = bench.signed("replace", "replace-drive"), bench.signed("replace", "replace-drive")
    shelf = {i["name"]: i for i in bench.client.get("/api/shelf").json()["items"]}
    last = shelf["QUARRY SPINDLE 500"]["id"]
    bench.post(f"/tickets/{one}/part", shelf=last, by="KT")
    assert "the last was taken" in bench.post(f"/tickets/{two}/part", 409, shelf=last, by="MO")["detail"]
    held = bench.client.delete(f"/api/shelf/{last}")
    assert held.status_code == 409
    assert "nobody has reserved" in held.json()["detail"]
    place = next(e["place"] for e in bench.ticket(one)["tape"] if "part" in e["body"])
    bench.post(f"/tickets/{one}/entries", entry={"undo": place}, by="KT")
    bench.post(f"/tickets/{two}/part", shelf=last, by="MO")


def test_the_shelf_comes_and_goes_as_csv(bench: Bench) -> None:
    text = bench.client.get("/api/shelf.csv").text
    assert text.splitlines()[0] == ",".join(COLUMNS)
    assert len(text.splitlines()) == 5
    assert bench.post("/shelf", csv=text, by="KT")["items"] == bench.client.get("/api/shelf").json()["items"], (
        "laid on again it is the same shelf"
    )
    bad = bench.post("/shelf", 400, csv=SHELF.replace("62,2", "cheap,2").replace("sata,3.5", "scsi,3.5"), by="KT")[
        "detail"
    ]
    assert "line 2, price: expected a number" in bad
    assert "line 4, interface: expected one of sata" in bad


def test_the_shop_learns_how_a_model_opens_and_offers_the_name_it_knows(bench: Bench) -> None:
    number = bench.signed("replace", "replace-drive", machine="Ostler Bracken-15")
    assert bench.work(number)["guide"]["level"] is None
    assert bench.work(number)["guide"]["general"]
    for name, count in (("Rear feet", 2), ("Base cover", 8)):
        bench.post(f"/tickets/{number}/tray", name=name, count=count, kind="6 mm", fields=[7, 9], by="KT")
    again = bench.signed("replace", "replace-drive", machine="Ostler Bracken-15")
    guide = bench.work(again)["guide"]
    assert (guide["level"], guide["machines"], guide["next"]["name"], guide["next"]["fields"]) == (
        "model",
        1,
        "Rear feet",
        [7, 9],
    )
    bench.post(f"/tickets/{again}/tray", name="rear feet", count=2, by="KT")
    assert bench.work(again)["guide"]["next"]["name"] == "Base cover"
    slip = bench.signed("replace", "replace-drive", machine="Ostler Braken-15")
    assert bench.work(slip)["guide"]["known_as"] == "Ostler Bracken-15"
    bench.post(f"/tickets/{slip}/entries", entry={"fact": {"known_as": "Ostler Bracken-15"}}, by="KT")
    assert bench.work(slip)["guide"]["level"] == "model"
    assert bench.work(slip)["guide"]["known_as"] is None


def test_screws_left_over_or_missing_are_said_with_where_they_belong(bench: Bench) -> None:
    number = bench.signed("repair", "reseat", "screen=no-boot-device")
    place = int(bench.post(f"/tickets/{number}/tray", name="Base cover", count=8, by="KT")["tape"][-1]["place"])
    screws = next(p for p in bench.work(number)["proof"] if p["id"] == "screws")
    assert screws["state"] == "open"
    assert "base cover" in screws["why"]
    assert "at most 8" in bench.post(f"/tickets/{number}/tray/{place}/back", 422, missing=9, by="KT")["detail"]
    bench.post(f"/tickets/{number}/tray/{place}/back", missing=1, by="KT")
    screws = next(p for p in bench.work(number)["proof"] if p["id"] == "screws")
    assert screws["state"] == "failed"
    assert "1 missing of base cover" in screws["why"]
    assert "one that is back" in bench.post(f"/tickets/{number}/tray/{place}/back", 422, by="KT")["detail"]
    bench.post(f"/tickets/{number}/steps/screws/waive", reason="One was missing when it came", by="KT")
    assert next(p for p in bench.work(number)["proof"] if p["id"] == "screws")["state"] == "waived"
