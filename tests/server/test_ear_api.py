"""Recordings on a ticket: judged, weighed with the file that the entry rests on, kept with the ticket, erased with the
customer; ready times."""

from __future__ import annotations

import io
import wave
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from gatecheck.practice.patients import PATIENTS
from gatecheck.practice.sounds import Scene, Trace, sound, trace
from gatecheck.server.ear.service import LARGEST, wav_bytes

HEAD = {"X-Gate-Check": "1"}
RATE = 16_000


def ticket(client: TestClient, **facts: Any) -> int:
    return int(
        client.post(
            "/api/tickets",
            json={
                "customer": "Choir",
                "machine": "Ferrow Lathe-14",
                "by": "KT",
                "facts": {"drive_kind": "hdd", **facts},
            },
            headers=HEAD,
        ).json()["id"]
    )


def add(client: TestClient, number: int, name: str, data: bytes) -> Any:
    return client.post(
        f"/api/tickets/{number}/recordings", files={"file": (name, data)}, data={"by": "KT"}, headers=HEAD
    )


def made(kind: str, seed: int = 3) -> bytes:
    return wav_bytes(sound(Scene(kind, rate=RATE, seconds=10, snr=20), seed), RATE)


def csv_of(kind: str, form: str = "2.5") -> bytes:
    times, rails = trace(Trace(kind, form=form), 4)
    return "\n".join(
        [
            "t," + ",".join(rails),
            *(f"{t:.3f}," + ",".join(f"{v[n]:.4f}" for v in rails.values()) for n, t in enumerate(times)),
        ]
    ).encode()


@pytest.mark.parametrize("kind", ["ticking", "clunking", "scraping", "steady"])
def test_a_sound_becomes_an_entry_with_its_reasons_and_its_file(client: TestClient, kind: str) -> None:
    number = ticket(client)
    body = add(client, number, f"{kind}.wav", made(kind)).json()
    entry = body["tape"][-1]
    assert max(entry["body"]["weights"], key=entry["body"]["weights"].get) == kind
    assert entry["note"].startswith("Heard in the recording")
    shown = client.get(f"/api/tickets/{number}/ear").json()["recordings"][0]
    assert shown["outcome"] == kind
    assert shown["why"]
    assert (shown["period"] is not None) is (kind in ("ticking", "clunking"))
    assert max(shown["shape"]["loud"]) == pytest.approx(1.0, abs=0.01)
    kept = client.get(f"/api/tickets/{number}/recordings/{shown['sha256']}")
    assert (kept.content, kept.headers["content-type"]) == (made(kind), "audio/wav")
    # what is heard holds what stresses the drive
    assert any(h["move"] == "long-test" for h in body["held"]) is (kind != "steady")


def test_what_cannot_be_told_weighs_nothing_and_says_why(client: TestClient) -> None:
    number = ticket(client)
    for name, data in (
        ("quiet.wav", wav_bytes(np.zeros(RATE * 5), RATE)),
        ("short.wav", wav_bytes(np.ones(RATE) * 0.1, RATE)),
        ("loud.wav", wav_bytes(np.sign(np.sin(np.arange(RATE * 4))) * 1.0, RATE)),
    ):
        entry = add(client, number, name, data).json()["tape"][-1]
        assert "weights" not in entry["body"]
        assert "inconclusive" in entry["note"]
    assert [r["outcome"] for r in client.get(f"/api/tickets/{number}/ear").json()["recordings"]] == [None] * 3


def test_a_heard_and_a_typed_sound_that_differ_are_doubted(client: TestClient) -> None:
    number = ticket(client)
    client.post(
        f"/api/tickets/{number}/entries",
        json={"entry": {"move": "sound", "outcome": "steady"}, "by": "KT"},
        headers=HEAD,
    )
    body = add(client, number, "clunks.wav", made("clunking")).json()
    assert [e["body"].get("move") for e in body["tape"]].count("sound") == 2  # both stay


@pytest.mark.parametrize(("kind", "form"), [("normal", "3.5"), ("restarting", "2.5"), ("flat", "2.5")])
def test_a_trace_is_seen_for_what_it_is(client: TestClient, kind: str, form: str) -> None:
    number = ticket(client)
    body = add(client, number, "trace.csv", csv_of(kind, form)).json()
    weights = body["tape"][-1]["body"]["weights"]
    assert max(weights, key=weights.get) == kind
    shown = client.get(f"/api/tickets/{number}/ear").json()["recordings"][0]
    assert set(shown["shape"]) == ({"a5", "a12"} if form == "3.5" else {"a5"})
    if kind == "normal":
        assert shown["form_factor"] == form


def channels(count: int) -> bytes:
    buffer = io.BytesIO()
    with wave.open(buffer, "wb") as file:
        file.setnchannels(count)
        file.setsampwidth(2)
        file.setframerate(RATE)
        file.writeframes(bytes(count * RATE * 4))
    return buffer.getvalue()


@pytest.mark.parametrize(
    ("name", "data", "wrong"),
    [
        ("x.wav", b"RIFF", "WAV"),
        ("x.wav", made("steady")[:60][:30], "WAV"),
        ("many.wav", channels(32), "one or two channels"),
        ("x.csv", b"", "header"),
        ("x.csv", b"t,a5\n0,1\n0.5,2\n0.2,1\n", "line 4, t: expected a time after"),
        ("x.csv", b"t,a5\n0,a lot\n", "line 2, a5: expected a number"),
        ("x.mp3", b"ID3\0\0\0\0", "header"),
        ("x.csv", b"hello\nworld\n", "header"),
    ],
)
def test_bad_recordings_are_one_sentence_and_nothing_is_kept(
    client: TestClient, name: str, data: bytes, wrong: str
) -> None:
    number = ticket(client)
    answer = add(client, number, name, data)
    assert answer.status_code in (409, 422)
    assert wrong in answer.json()["detail"]
    assert client.get(f"/api/tickets/{number}/ear").json()["recordings"] == []


def test_one_that_is_too_large_is_refused(client: TestClient) -> None:
    assert add(client, ticket(client), "hour.wav", b"RIFF" + bytes(LARGEST + 1)).status_code in (409, 413)


@pytest.mark.parametrize(
    ("seconds", "waited", "outcome"),
    [(7.0, 0, "normal"), (90.0, 0, "slow"), (300.0, 0, "never"), (None, 245.0, "never")],
)
def test_ready_time(client: TestClient, seconds: float | None, waited: float, outcome: str) -> None:
    body = client.post(
        f"/api/tickets/{ticket(client)}/ready", json={"seconds": seconds, "waited": waited, "by": "KT"}, headers=HEAD
    ).json()
    assert body["tape"][-1]["body"]["outcome"] == outcome


@pytest.mark.parametrize(("name", "data"), [("x.wav", made("clunking")), ("x.csv", csv_of("flat"))])
def test_a_drive_without_moving_parts_says_nothing_and_the_recording_is_kept(
    client: TestClient, name: str, data: bytes
) -> None:
    number = ticket(client, drive_kind="nvme")
    entry = add(client, number, name, data).json()["tape"][-1]
    assert "weights" not in entry["body"]
    assert "no moving parts" in entry["note"]
    assert len(client.get(f"/api/tickets/{number}/ear").json()["recordings"]) == 1


def test_a_drive_that_was_given_up_early_is_not_called_never_ready(client: TestClient) -> None:
    answer = client.post(
        f"/api/tickets/{ticket(client)}/ready", json={"seconds": None, "waited": 30, "by": "KT"}, headers=HEAD
    )
    assert "says nothing yet" in answer.json()["detail"]


def test_references_are_made_and_told_apart_by_the_same_ear(client: TestClient) -> None:
    kinds = [r["outcome"] for r in client.get(f"/api/tickets/{ticket(client)}/ear").json()["references"]]
    assert kinds == ["steady", "ticking", "clunking", "scraping", "restarting"]
    number = ticket(client)
    for kind in kinds:
        add(client, number, f"{kind}.wav", client.get(f"/api/ear/references/{kind}").content)
    assert [r["outcome"] for r in reversed(client.get(f"/api/tickets/{number}/ear").json()["recordings"])] == kinds
    assert client.get("/api/ear/references/whistling").status_code == 404


def test_every_practice_machine_has_a_sound_and_a_trace_that_fit_its_fault() -> None:
    told = {p.id: (p.sounds, p.draws) for p in PATIENTS}
    assert told["ticking"] == ("ticking", "normal")
    assert told["growing"][0] == "steady"
    assert told["worn"][0] == "silent"
    assert {s for s, _ in told.values()} <= {"steady", "ticking", "clunking", "scraping", "restarting", "silent"}


def test_recordings_go_with_the_ticket_and_are_erased_with_the_customer(client: TestClient, tmp_path: Path) -> None:
    number = ticket(client)
    add(client, number, "voices of the choir.wav", made("ticking"))
    digest = client.get(f"/api/tickets/{number}/ear").json()["recordings"][0]["sha256"]
    stored = next(tmp_path.rglob(digest))
    assert stored.exists()
    client.post(
        f"/api/tickets/{number}/handover",
        json={"proven": ["drive.mechanical"], "by": "KT", "waive": "told so"},
        headers=HEAD,
    )
    answer = client.post(f"/api/tickets/{number}/erase", json={"by": "KT"}, headers=HEAD)
    assert answer.status_code == 200, answer.text
    assert not stored.exists()
    assert client.get(f"/api/tickets/{number}/ear").json()["recordings"] == []


def test_a_recording_is_named_on_the_technical_paper(client: TestClient) -> None:
    number = ticket(client)
    sha = client.get(
        f"/api/tickets/{add(client, number, 'by the window.wav', made('ticking')).json()['id']}/ear"
    ).json()["recordings"][0]["sha256"]
    rows = [
        cell
        for section in client.get(f"/api/tickets/{number}/papers/file").json()["sections"]
        for row in section["rows"]
        for cell in row
    ]
    own = next(text for text in rows if "by the window.wav" in text)
    assert f"SHA-256 {sha[:12]}" in own
    assert "Listen to the drive" in own
