"""Sounds and supply traces: what each kind is called, that rooms do not make a healthy drive sick, and what is refused.
How often: bench/ear.py, docs/ear.md."""

from __future__ import annotations

import json
import struct
import wave
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import rooms
from currents import KINDS, current

from gatecheck.cli.main import main
from gatecheck.core.signal.sound import OUTCOMES, judge_sound
from gatecheck.core.signal.supply import judge_supply
from gatecheck.practice.sounds import Scene, Trace, sound, trace


@pytest.mark.parametrize("kind", ["steady", "ticking", "clunking", "scraping", "restarting", "silent"])
@pytest.mark.parametrize("seed", [11, 12])
def test_each_sound_is_called_what_it_is(kind: str, seed: int) -> None:
    found = judge_sound(sound(Scene(kind, 5400, 14.0, 44_100, 20.0), seed), 44_100)
    assert found.outcome == kind
    assert abs(sum(found.weights.values()) - 1) < 0.01
    assert set(found.weights) == set(OUTCOMES)


@pytest.mark.parametrize("rpm", [5400, 5900, 7200, 10_000])
@pytest.mark.parametrize("hum", [0, 50, 60])
def test_the_speed_is_told_also_beside_hum(rpm: int, hum: int) -> None:
    found = judge_sound(sound(Scene("steady", rpm, 10.0, 48_000, 15.0, hum=hum), rpm + hum), 48_000)
    assert found.rpm in (rpm, None)
    assert found.rpm == rpm or hum


@pytest.mark.parametrize(
    "room", [{"voices": 0.5}, {"keys": 0.5}, {"fan": 1.0, "hum": 50}, {"seeks": 4.0}, {"seeks": 1.0, "start": True}]
)
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_healthy_drive_in_a_room_is_not_called_sick(room: dict[str, float], seed: int) -> None:
    own = Scene("steady", 5400, 12.0, 44_100, 10.0, **room)  # type: ignore[arg-type]
    assert judge_sound(sound(own, seed), 44_100).outcome in ("steady", None)


NOTHING: dict[str, tuple[Callable[[], np.ndarray], str]] = {
    "zeros": (lambda: np.zeros(160_000), "sound.too-quiet"),
    "short": (lambda: np.random.default_rng(1).normal(0, 0.1, 8000), "sound.too-short"),
    "clipped": (lambda: np.clip(np.random.default_rng(1).normal(0, 3, 160_000), -1, 1), "sound.clipped"),
    "nothing": (lambda: np.zeros(0), "sound.too-short"),
}


@pytest.mark.parametrize("name", NOTHING)
def test_what_cannot_be_told_is_not_guessed(name: str) -> None:
    make, why = NOTHING[name]
    found = judge_sound(make(), 16_000)
    assert (found.outcome, dict(found.weights), found.why[0].id) == (None, {}, why)


@pytest.mark.parametrize("kind", ["normal", "no-spin", "restarting", "flat"])
@pytest.mark.parametrize("form", ["2.5", "3.5"])
@pytest.mark.parametrize("hz", [10.0, 200.0, 5000.0])
def test_each_trace_is_called_what_it_is(kind: str, form: str, hz: float) -> None:
    found = judge_supply(*trace(Trace(kind, form, 16.0, hz, 0.005), 5))
    assert found.outcome == kind
    assert found.form_factor in (form, None)
    assert found.form_factor == form or kind in ("flat", "no-spin")


def _wav(place: Path, samples: np.ndarray, rate: int, width: int, channels: int = 1) -> None:
    with wave.open(str(place), "wb") as file:
        file.setnchannels(channels)
        file.setsampwidth(width)
        file.setframerate(rate)
        scaled = np.clip(samples, -1, 1)
        raw = (
            ((scaled * 127) + 128).astype(np.uint8).tobytes()
            if width == 1
            else b"".join(struct.pack("<i", int(v * 8_388_607) << 8)[1:] for v in scaled)
            if width == 3
            else (scaled * (2 ** (8 * width - 1) - 1)).astype(f"<i{width}").tobytes()
        )
        file.writeframes(raw)


@pytest.mark.parametrize(
    ("rate", "width", "channels"), [(8000, 2, 1), (16_000, 1, 1), (44_100, 2, 2), (48_000, 3, 1), (96_000, 4, 1)]
)
def test_every_kind_of_wav_is_listened_to(
    rate: int, width: int, channels: int, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    own = sound(Scene("ticking", 5400, 9.0, rate, 25.0), 4)
    place = tmp_path / "drive.wav"
    _wav(place, np.repeat(own, channels), rate, width, channels)
    assert main(["listen", str(place)]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["heard"] == "ticking"
    assert 0.5 < told["rhythm"]["rate_hz"] < 3
    assert sum(e["kind"] == "tick" for e in told["events"]) >= 5
    assert told["quality"]["clipped"] == 0


@pytest.mark.parametrize(
    ("name", "data", "says"),
    [
        ("listen", b"no sound at all", "WAV"),
        ("listen", b"", "WAV"),
        ("listen", b"RIFF\x10\0\0\0WAVEfmt \x10\0\0\0", "WAV"),
        ("listen", None, "No such file"),
        ("supply", b"", "header"),
        ("supply", b"a,b\n1,2\n", "header"),
        ("supply", b"t,a5\n", "rows"),
        ("supply", b"t,a5\n0,1\n1,x\n", "line 3"),
        ("supply", b"t,a5\n1,1\n0,1\n", "line 3"),
        ("supply", b"\xff\xfe\x00", "CSV"),
        ("supply", None, "No such file"),
    ],
)
def test_bad_recordings_and_traces_are_one_sentence(
    name: str, data: bytes | None, says: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    place = tmp_path / "given"
    if data is not None:
        place.write_bytes(data)
    assert main([name, str(place)]) == 2
    said = capsys.readouterr().err
    assert says in said
    assert said.count("\n") == 1


def test_a_trace_from_a_file_with_gaps(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    time, rails = trace(Trace("normal", "3.5", 15.0, 100.0, 0.01), 3)
    rows = [
        f"{t:.3f},{a:.4f},{b:.4f}" if n % 7 else f"{t:.3f},,{b:.4f}"
        for n, (t, a, b) in enumerate(zip(time, rails["a5"], rails["a12"], strict=True))
        if not 300 < n < 330
    ]
    place = tmp_path / "trace.csv"
    place.write_text("t,a5,a12\n" + "\n".join(rows) + "\n")
    assert main(["supply", str(place)]) == 0
    told = json.loads(capsys.readouterr().out)
    assert (told["seen"], told["form_factor"]) == ("normal", "3.5")
    assert told["events"][0]["kind"] == "surge"


@pytest.mark.parametrize("kind", ["normal", "no-spin", "restarting"])
@pytest.mark.parametrize("away", [60.0, 1e9])
@pytest.mark.parametrize("before", [True, False])
def test_a_trace_whose_clock_jumped_is_judged_where_it_is_whole(kind: str, away: float, before: bool) -> None:
    times, rails = trace(Trace(kind, "3.5", 16.0, 50.0, 0.005), 5)
    alone = judge_supply(times, rails)
    stray = np.array([times[0] - away if before else times[-1] + away])
    order = (
        (lambda rest, one: np.concatenate([one, rest])) if before else (lambda rest, one: np.concatenate([rest, one]))
    )
    found = judge_supply(order(times, stray), {name: order(values, np.array([0.2])) for name, values in rails.items()})
    assert (found.outcome, found.form_factor, found.events) == (alone.outcome, alone.form_factor, alone.events)
    assert [w.id for w in found.why][-1] == "supply.gap"


@pytest.mark.parametrize("count", [3, pytest.param(12, marks=pytest.mark.wide)])
@pytest.mark.parametrize("kind", rooms.KINDS)
def test_a_drive_struck_and_heard_in_a_room_is_called_what_it_is_or_nothing(kind: str, count: int) -> None:
    """Another generator; echoes, fans, speech, gates, compression, clipping, 8 to 48 kHz, 4200 to 15,000 rpm."""
    told: Counter[str] = Counter()
    for seed in range(count):
        made = rooms.heard(kind, 60 + seed)
        found = judge_sound(made.samples, made.rate)
        told["right" if found.outcome == kind else "nothing" if found.outcome is None else found.outcome] += 1
        if found.outcome == kind and made.beat and kind != "restarting":
            assert found.rhythm.rate == pytest.approx(made.beat, rel=0.06)
    assert told["right"] >= count * 5 // 8, told
    assert told["right"] + told["nothing"] >= count - 1, told
    assert kind not in ("ticking", "clunking") or not told["steady"], told


@pytest.mark.parametrize("count", [15, pytest.param(40, marks=pytest.mark.wide)])
@pytest.mark.parametrize("kind", KINDS)
def test_a_current_worked_out_from_a_motor_is_called_what_it_is(kind: str, count: int) -> None:
    """Another generator; clamps the wrong way round, drift, gaps, rails not traced, 10 Hz to 5 kHz."""
    wrong = []
    for seed in range(count):
        own = current(kind, 300 + seed)
        found = judge_supply(own.times, own.rails)
        if found.outcome != kind or found.form_factor != own.form:
            wrong.append((300 + seed, found.outcome, found.form_factor, own.form, own.said))
        assert ("supply.reversed" in [w.id for w in found.why]) == bool(own.said.get("reversed")) or kind == "flat"
    assert len(wrong) <= count // 15, wrong


def test_where_twelve_volts_were_not_traced_nothing_is_sure_of_a_motor() -> None:
    own = current(
        "normal",
        next(n for n in range(99) if current("normal", n).form == "3.5" and "a5" in current("normal", n).rails),
    )
    found = judge_supply(own.times, {"a5": own.rails["a5"]})
    assert found.form_factor is None
    assert max(found.weights.values()) < 0.6
    assert "supply.only-five" in [w.id for w in found.why]


@pytest.mark.parametrize(("unit", "scale"), [("ms", 1e3), ("us", 1e6)])
def test_times_in_another_unit_are_read_and_said(unit: str, scale: float) -> None:
    times, rails = trace(Trace("normal", "3.5", 20.0, 200.0, 0.005), 5)
    alone, found = judge_supply(times, rails), judge_supply(times * scale, rails)
    assert (found.outcome, found.form_factor) == (alone.outcome, alone.form_factor) == ("normal", "3.5")
    assert found.why[-1].values == {"unit": unit}


def test_a_trace_of_a_day_is_no_start_of_a_drive() -> None:
    times = np.arange(0.0, 86_400.0, 5.0)
    found = judge_supply(times, {"a12": np.full(len(times), 0.3)})
    assert (found.outcome, [w.id for w in found.why]) == (None, ["supply.too-long"])
