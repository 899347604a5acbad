"""Recordings of a ticket's drive: kept, judged, weighed on the tape with the file that the entry rests on; and the
sounds they are compared with."""

from __future__ import annotations

import io
import itertools
import wave
from collections.abc import Mapping
from functools import lru_cache
from typing import TYPE_CHECKING

import numpy as np

from gatecheck.adapters.recordings import read_trace, read_wav
from gatecheck.core.errors import InputError, TapeError
from gatecheck.core.instruments.evidence import noted
from gatecheck.core.words.said import Said, say, to_json
from gatecheck.practice.patients import patient
from gatecheck.server.ear.wire import EarOut, HeardEventOut, RecordingOut, SoundWeightOut
from gatecheck.server.errors import NotFoundError
from gatecheck.server.shop import Shop, now
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.store import Connection, StoreError
from gatecheck.store.links import link_of
from gatecheck.store.recordings import Recording, add_recording, recordings_of

if TYPE_CHECKING:  # SciPy takes longer to read in than all the rest of the server: it comes with the first recording
    from gatecheck.core.signal.sound import Heard
    from gatecheck.core.signal.supply import SupplyVerdict

LARGEST = 24 << 20
_MOST = 24
EAR = "ear"
"""what an entry rests on that was heard, or measured"""
_SHAPE, _REFERENCE_RATE, _REFERENCE_SECONDS = 480, 16_000, 12.0
_REFERENCES = ("steady", "ticking", "clunking", "scraping", "restarting")
_BEATS = ("ticking", "clunking")
"""sounds that are their rhythm; of any other a beat is chance"""
_NEEDS_TURNING = ("sata-ssd", "nvme", "emmc")


class Ear:
    """The recordings of a shop's tickets."""

    def __init__(self, shop: Shop, at_work: Tickets) -> None:
        self.shop, self.tickets = shop, at_work
        self._heard = lru_cache(32)(self._judge_sound)
        self._seen = lru_cache(32)(self._judge_supply)
        self._reference = lru_cache(len(_REFERENCES))(_wav_of_kind)

    def view(self, ticket_id: int) -> EarOut:
        """Every recording, newest first. Raises NotFoundError."""
        facts = self.tickets.folded_of(ticket_id).state.facts
        with self.shop.database.read() as connection:
            kept, link = recordings_of(connection, ticket_id), link_of(connection, ticket_id)
        limits = self.shop.model.knowledge.findings.limits
        return EarOut(
            recordings=[self._out(r) for r in kept],
            references=[
                SoundWeightOut(outcome=kind, says=self._says("sound", kind), share=0.0) for kind in _REFERENCES
            ],
            practice=bool(
                link and link.practice and not link.ended_at and patient(link.practice).facts.get("drive_kind") == "hdd"
            ),
            silent_kind=facts.get("drive_kind") in _NEEDS_TURNING,
            slow=limits["slow_ready"],
            never=limits["never_ready"],
        )

    # --- what is heard and seen --------------------------------------------------------------------------------

    def add(
        self, ticket_id: int, name: str, data: bytes, *, by: str, at: str | None = None, key: str | None = None
    ) -> TicketOut:
        """Keep a recording, a WAV or a CSV, and weigh what it says: file and entry stand or fall together. What cannot
        be told is a note. Raises InputError, StoreError, TapeError."""
        row = self.tickets.row_of(ticket_id)
        if row.closed_at:
            raise TapeError(f"ticket {row.number}", expected="an open ticket", got="one that was handed over")
        name = name[-80:] or "recording"
        kind = "supply" if name.lower().endswith(".csv") or not data.startswith(b"RIFF") else "sound"
        weights, note, move = self._says_of(name, kind, data)
        if self.tickets.folded(row).state.facts.get("drive_kind") in _NEEDS_TURNING:
            weights, note = {}, say("evidence.no-moving-parts")
        digest, moment = self.shop.files.put(data), at or now()
        rests_on = {"file": digest, "name": name, "device": EAR}
        body = (
            noted({"move": move, "weights": dict(weights), "rests_on": rests_on}, note)
            if weights
            else {"note": to_json(note), "rests_on": rests_on}
        )

        def keep(connection: Connection) -> None:
            if len(recordings_of(connection, ticket_id)) >= _MOST:
                raise StoreError(f"{name}: expected at most {_MOST} recordings on a ticket, got another")
            add_recording(connection, ticket_id, digest, len(data), kind, name, by=by, at=moment)

        return self.tickets.append_all(
            ticket_id, [(dict(body), key or f"{digest[:24]}-{EAR}")], by=by, at=moment, also=keep
        )

    def _says_of(self, name: str, kind: str, data: bytes) -> tuple[Mapping[str, float], Said, str]:
        from gatecheck.core.signal.sound import judge_sound
        from gatecheck.core.signal.supply import judge_supply

        if kind == "sound":
            heard = judge_sound(*read_wav(name, data))
            sentences = list(heard.why)
            return (
                heard.weights,
                say("evidence.heard", why=sentences) if heard.outcome else say("evidence.not-heard", why=sentences),
                "sound",
            )
        seen = judge_supply(*read_trace(name, data))
        return (
            seen.weights,
            say("evidence.traced", why=list(seen.why))
            if seen.outcome
            else say("evidence.not-traced", why=list(seen.why)),
            "supply-trace",
        )

    def file(self, ticket_id: int, digest: str) -> tuple[Recording, bytes]:
        """Raises NotFoundError."""
        with self.shop.database.read() as connection:
            own = next((r for r in recordings_of(connection, ticket_id) if r.sha256 == digest), None)
        if own is None:
            raise NotFoundError(f"recording {digest[:12]}: expected one of this ticket, got none")
        return own, self.shop.files.get(digest)

    def reference(self, kind: str) -> bytes:
        """A made sound of that kind, as a WAV. Raises NotFoundError."""
        if kind not in _REFERENCES:
            raise NotFoundError(f"reference {kind[:40]!r}: expected one of {', '.join(_REFERENCES)}")
        return self._reference(kind)

    def from_practice(self, ticket_id: int, *, by: str) -> TicketOut:
        """What the linked practice machine sounds like, as if it had been recorded, and what it draws. Raises
        NotFoundError where none is linked."""
        from gatecheck.practice.sounds import Scene, Trace, sound, trace

        with self.shop.database.read() as connection:
            link = link_of(connection, ticket_id)
            count = len(recordings_of(connection, ticket_id))
        if link is None or not link.practice or link.ended_at:
            raise NotFoundError("practice machine: expected one that is linked to this ticket, got none")
        own = patient(link.practice)
        if own.facts.get("drive_kind") != "hdd":
            raise StoreError(
                "practice machine: expected one whose drive turns, got one without a disk: there is nothing to hear"
            )
        scene = Scene(
            own.sounds,
            rpm=5400,
            rate=_REFERENCE_RATE,
            seconds=10.0,
            snr=14.0,
            fan=0.3,
            seeks=1.0 if own.sounds == "steady" else 0.2,
        )
        self.add(
            ticket_id,
            f"{own.id}.wav",
            wav_bytes(sound(scene, seed=count + sum(map(ord, own.id))), _REFERENCE_RATE),
            by=by,
        )
        times, rails = trace(Trace(own.draws, form="2.5", hz=50.0), seed=count + 1)
        lines = [
            "t," + ",".join(rails),
            *(f"{t:.3f}," + ",".join(f"{values[n]:.4f}" for values in rails.values()) for n, t in enumerate(times)),
        ]
        return self.add(ticket_id, f"{own.id}.csv", "\n".join(lines).encode(), by=by)

    def ready(self, ticket_id: int, seconds: float | None, waited: float, *, by: str) -> TicketOut:
        """How long the drive took until it was ready, onto the tape. Raises InputError where it was given up too early
        to say never."""
        limits = self.shop.model.knowledge.findings.limits
        if seconds is None and waited < limits["never_ready"]:
            raise InputError(
                f"ready time: expected a drive that is ready, or {limits['never_ready']:.0f} s of waiting, got "
                f"{waited:.0f} s; that says nothing yet"
            )
        outcome = (
            "never"
            if seconds is None or seconds >= limits["never_ready"]
            else "slow"
            if seconds >= limits["slow_ready"]
            else "normal"
        )
        entry = noted(
            {"move": "ready-time", "outcome": outcome},
            say("evidence.not-ready", seconds=round(waited))
            if seconds is None
            else say("evidence.ready", seconds=round(seconds)),
        )
        return self.tickets.append_all(ticket_id, [(dict(entry), None)], by=by)

    # --- as it is shown ----------------------------------------------------------------------------------------

    def _judge_sound(self, digest: str) -> tuple[Heard, float, list[float]]:
        from gatecheck.core.signal.sound import judge_sound

        samples, rate = read_wav(digest, self.shop.files.get(digest))
        return judge_sound(samples, rate), len(samples) / rate, _loudness(samples)

    def _judge_supply(self, digest: str) -> tuple[SupplyVerdict, float, dict[str, list[float]]]:
        from gatecheck.core.signal.supply import judge_supply

        times, rails = read_trace(digest, self.shop.files.get(digest))
        grid = np.linspace(times[0], times[-1], _SHAPE)
        shape = {}
        for name, values in rails.items():
            good = np.isfinite(values)
            if good.any():
                shape[name] = [round(float(v), 4) for v in np.interp(grid, times[good], values[good])]
        return judge_supply(times, rails), float(times[-1] - times[0]), shape

    def _out(self, own: Recording) -> RecordingOut:
        words = self.shop.words
        if own.kind == "sound":
            heard, seconds, shape = self._heard(own.sha256)
            return RecordingOut(
                sha256=own.sha256,
                kind=own.kind,
                name=own.name,
                by=own.added_by,
                at=own.added_at,
                seconds=seconds,
                outcome=heard.outcome,
                verdict=self._verdict("sound", heard.outcome),
                why=[words.say(w) for w in heard.why],
                weights=self._weights("sound", heard.weights),
                events=[HeardEventOut(at=at, kind=kind) for at, kind in heard.events],
                period=heard.rhythm.period if heard.outcome in _BEATS and heard.rhythm.period else None,
                regularity=heard.rhythm.regularity,
                rpm=heard.rpm,
                level=heard.quality.level,
                shape={"loud": shape},
                form_factor=None,
            )
        seen, seconds, rails = self._seen(own.sha256)
        return RecordingOut(
            sha256=own.sha256,
            kind=own.kind,
            name=own.name,
            by=own.added_by,
            at=own.added_at,
            seconds=seconds,
            outcome=seen.outcome,
            verdict=self._verdict("supply-trace", seen.outcome),
            why=[words.say(w) for w in seen.why],
            weights=self._weights("supply-trace", seen.weights),
            events=[HeardEventOut(at=at, kind=kind) for at, kind in seen.events],
            period=None,
            regularity=0.0,
            rpm=None,
            level=None,
            shape=rails,
            form_factor=seen.form_factor,
        )

    def _verdict(self, check: str, outcome: str | None) -> str:
        return self._says(check, outcome) if outcome else self.shop.words.say(say("evidence.cannot-tell"))

    def _says(self, check: str, outcome: str) -> str:
        return self.shop.model.knowledge.checks[check].say[outcome]

    def _weights(self, check: str, weights: Mapping[str, float]) -> list[SoundWeightOut]:
        return [
            SoundWeightOut(outcome=o, says=self._says(check, o), share=w)
            for o, w in sorted(weights.items(), key=lambda own: -own[1])
            if w >= 0.01
        ]


def _loudness(samples: np.ndarray) -> list[float]:
    """Peaks of even parts, against the loudest."""
    if not len(samples):
        return []
    edges = np.linspace(0, len(samples), _SHAPE + 1).astype(int)
    peaks = np.array([float(np.max(np.abs(samples[a:b]))) if b > a else 0.0 for a, b in itertools.pairwise(edges)])
    return [round(float(v), 3) for v in peaks / (peaks.max() + 1e-9)]


def wav_bytes(samples: np.ndarray, rate: int) -> bytes:
    """16 bit, one channel. `samples`: within ±1."""
    buffer = io.BytesIO()
    with wave.open(buffer, "wb") as file:
        file.setnchannels(1)
        file.setsampwidth(2)
        file.setframerate(rate)
        file.writeframes((np.clip(samples, -1, 1) * 32767).astype("<i2").tobytes())
    return buffer.getvalue()


def _wav_of_kind(kind: str) -> bytes:
    from gatecheck.practice.sounds import Scene, sound

    scene = Scene(
        kind,
        rpm=5400,
        rate=_REFERENCE_RATE,
        seconds=_REFERENCE_SECONDS,
        snr=26.0,
        seeks=1.2 if kind == "steady" else 0.0,
        start=kind == "steady",
    )
    return wav_bytes(sound(scene, seed=11), _REFERENCE_RATE)
