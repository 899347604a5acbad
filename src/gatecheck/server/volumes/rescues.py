"""Files that were rescued from a ticket's volumes: each rescue a folder on the bench's disk, with a note of what it is
beside it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from gatecheck.adapters.file_rescue import SUMMARY
from gatecheck.core.words.catalogue import Words
from gatecheck.core.words.said import say
from gatecheck.server.volumes import check_reports
from gatecheck.server.volumes.wire import RescueOut
from gatecheck.store import links
from gatecheck.store.links import Order

RUNS, PAUSED, DONE, STOPPED, FAILED = "runs", "paused", "done", "stopped", "failed"
_STATES = {links.WAITING: RUNS, links.PAUSED: PAUSED, links.CANCELLED: STOPPED}


class Rescues:
    """Those of one ticket. `folder`: of the ticket's volumes."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder / "rescued"

    def note(self, name: str) -> Path:
        return self.folder / f"{name}.json"

    def target(self, name: str) -> Path:
        return self.folder / name

    def begin(
        self, name: str, *, source: str, first: int, only: Sequence[str], deleted: bool, is_all: bool, by: str, at: str
    ) -> None:
        check_reports.save(
            self.note(name),
            {
                "source": source,
                "first": first,
                "only": list(only),
                "deleted": deleted,
                "is_all": is_all,
                "by": by,
                "at": at,
                "state": RUNS,
                "files": 0,
                "files_done": 0,
                "size": 0,
                "size_done": 0,
                "summary": {},
                "detail": "",
            },
        )

    def update(self, name: str, **values: Any) -> dict[str, Any]:
        known = check_reports.read(self.note(name)) or {}
        changed = {**known, **values}
        if known and changed != known:
            check_reports.save(self.note(name), changed)
        return changed

    def of(self, source: str, first: int, orders: Mapping[int, Order]) -> list[RescueOut]:
        """Newest first. What an order that was paused or left on the bench says counts before the note."""
        found = []
        for place in self.folder.glob("*.json"):
            own = check_reports.read(place)
            if own is not None and own["source"] == source and own["first"] == first:
                order = orders.get(int(place.stem)) if place.stem.isdigit() else None
                if order is not None and own["state"] in (RUNS, PAUSED):
                    own = {**own, "state": _STATES.get(order.state, own["state"]), "detail": order.detail}
                found.append((place.stat().st_mtime_ns, _out(place.stem, own, self.target(place.stem))))
        return [out for _, out in sorted(found, key=lambda f: (f[1].at, f[0]), reverse=True)]

    def next_name(self, source: str) -> str:
        number = 1
        while self.note(f"{source}-{number}").exists():
            number += 1
        return f"{source}-{number}"

    def tell_customer(self, name: str, words: Words) -> None:
        """The summary that goes with the files, in words."""
        own = check_reports.read(self.note(name)) or {}
        summary = own.get("summary") or {}
        told = {
            "whole": say("rescue.summary-whole", count=summary.get("whole", 0)),
            "holes": say("rescue.summary-holes", count=summary.get("holes", 0)),
            "lost": say("rescue.summary-lost", count=summary.get("lost", 0)),
            "deleted": say("rescue.summary-deleted", count=summary.get("deleted", 0)),
        }
        lines = [
            words.say(say("rescue.summary-files", count=summary.get("files", 0), bytes=summary.get("bytes", 0))),
            *(words.say(said) for state, said in told.items() if summary.get(state)),
            words.say(say("rescue.summary-lists")),
        ]
        (self.target(name) / SUMMARY).write_text("\n".join(lines) + "\n", encoding="utf-8")


def _out(name: str, own: dict[str, Any], folder: Path) -> RescueOut:
    summary = own.get("summary") or {}
    return RescueOut(
        id=name,
        order=int(name) if name.isdigit() else None,
        what=own["only"],
        deleted=own["deleted"],
        is_all=own["is_all"],
        state=own["state"],
        at=own["at"],
        by=own["by"],
        files=own["files"],
        files_done=own["files_done"],
        size=own["size"],
        size_done=own["size_done"],
        whole=summary.get("whole", 0) + summary.get("deleted", 0),
        holes=summary.get("holes", 0),
        lost=summary.get("lost", 0),
        folder=str(folder),
        detail=own["detail"],
        not_whole=own.get("not_whole", []),
    )
