"""Records as JSON-ready values: of the command line, and as the bench keeps them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from gatecheck.core.records.moments import iso
from gatecheck.core.records.own_repair import OwnRepair
from gatecheck.core.records.report import Records
from gatecheck.core.words.said import Said
from gatecheck.core.words.said import say as said

Worded = Callable[[Said], object]
"""a text as it is to stand there: in words, or as its id and values"""


def records_document(found: Sequence[Records], problems: Sequence[str], say: Worded) -> dict[str, object]:
    """`problems`: why something of a volume could not be looked through."""
    told = max(found, key=lambda own: own.last_good_start or own.last_shutdown or 0, default=None)
    return {
        "systems": [_system(own, say) for own in found],
        "events": [
            {
                "at": iso(e.at),
                "until": iso(e.until),
                "kind": e.kind,
                "source": e.source,
                "id": e.id,
                "text": say(e.text),
                "count": e.count,
            }
            for own in found
            for e in own.events
        ],
        "crashes": [
            {"at": iso(c.at), "code": f"0x{c.code:08X}", "name": c.name, "driver": c.driver}
            for own in found
            for c in own.crashes
        ],
        "own_repair": next((_repair(own.own_repair) for own in found if own.own_repair), None),
        "logs": [
            {
                "path": log.path,
                "records": log.records,
                "first": iso(log.first),
                "last": iso(log.last),
                "torn": list(log.torn),
            }
            for own in found
            for log in own.logs
        ]
        + [{"path": "", "records": 0, "first": None, "last": None, "torn": [problem]} for problem in problems],
        "findings": [
            {"id": f.id, "where": f.where, "text": say(f.text), "weight": f.weight}
            for own in found
            for f in own.findings
        ],
        "sentence": say(told.sentence if told else _nothing(problems)),
    }


def _repair(own: OwnRepair) -> dict[str, object]:
    return {
        "path": own.path,
        "attempts": own.attempts,
        "sessions": own.sessions,
        "tests": own.tests,
        "failed": list(own.failed),
    }


def _nothing(problems: Sequence[str]) -> Said:
    """Nothing was found: there is none, or it could not be read."""
    return said("records.said-not-read", why=problems[0]) if problems else said("records.said-no-system")


def _system(own: Records, say: Worded) -> dict[str, object]:
    told: dict[str, object] = {
        "last_good_start": iso(own.last_good_start),
        "last_shutdown": {"at": iso(own.last_shutdown), "clean": own.clean},
    }
    if own.mac is not None:
        return {
            "root": "/",
            "kind": "macos",
            "name": own.mac.name,
            "version": own.mac.version,
            "edition": None,
            "build": own.mac.build,
            "installed": None,
            "firmware": None,
            "clock": {"zone": own.mac.zone, "universal": None},
            "storage": {"installed_for": [], "drivers": []},
            "hibernated": None,
            "encryption": None,
            "updates": [{"at": iso(u.at), "name": u.name, "result": u.result} for u in own.updates],
            "pending": [],
            **told,
        }
    if own.linux is not None:
        return {
            "root": "/",
            "kind": "linux",
            "name": own.linux.name,
            "version": own.linux.version,
            "edition": None,
            "build": None,
            "installed": None,
            "firmware": None,
            "clock": {"zone": own.linux.zone, "universal": own.linux.universal},
            "storage": {"installed_for": [], "drivers": []},
            "hibernated": None,
            "encryption": None,
            "updates": [{"at": iso(u.at), "name": u.name, "result": u.result} for u in own.updates],
            "pending": [
                say(said("records.packages-half-done", what=name)) for name in own.linux.packages.half_done[:20]
            ],
            **told,
        }
    system = own.windows
    assert system is not None
    return {
        "root": f"{own.root}/Windows" if own.root else "Windows",
        "kind": "windows",
        "name": system.name,
        "version": system.version,
        "edition": system.edition,
        "build": system.build,
        "installed": iso(system.installed),
        "firmware": system.firmware,
        "clock": {"zone": system.zone, "universal": system.universal},
        "storage": {
            "installed_for": list(system.installed_for),
            "drivers": [
                {
                    "name": d.name,
                    "file": d.file,
                    "present": d.present,
                    "start": d.start,
                    "override": d.override,
                    "serves": d.serves,
                }
                for d in system.drivers
            ],
        },
        "hibernated": system.hibernated,
        "encryption": system.encryption,
        "updates": [{"at": iso(u.at), "name": u.name, "result": u.result} for u in own.updates],
        "pending": [say(p) for p in system.pending],
        **told,
    }
