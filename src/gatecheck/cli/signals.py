"""Judging a recording of a drive, and a trace of its supply current."""

from __future__ import annotations

import argparse

from gatecheck.adapters.recordings import read_trace, read_wav
from gatecheck.adapters.shipped_tables import disk_words
from gatecheck.cli.output import print_json
from gatecheck.core.signal.sound import judge_sound
from gatecheck.core.signal.supply import judge_supply


def listen(arguments: argparse.Namespace) -> int:
    words = disk_words()
    found = judge_sound(*read_wav(arguments.file))
    print_json(
        {
            "heard": found.outcome,
            "weights": dict(found.weights),
            "events": [{"at": at, "kind": kind} for at, kind in found.events],
            "rpm": found.rpm,
            "rhythm": {"rate_hz": found.rhythm.rate, "regularity": found.rhythm.regularity},
            "quality": {
                "level_db": found.quality.level,
                "clipped": found.quality.clipped,
                "noise": found.quality.noise,
            },
            "why": "; ".join(words.say(w) for w in found.why),
        }
    )
    return 0


def supply(arguments: argparse.Namespace) -> int:
    words = disk_words()
    found = judge_supply(*read_trace(arguments.file))
    print_json(
        {
            "seen": found.outcome,
            "weights": dict(found.weights),
            "events": [{"at": round(at, 3), "kind": kind} for at, kind in found.events],
            "form_factor": found.form_factor,
            "why": "; ".join(words.say(w) for w in found.why),
        }
    )
    return 0
