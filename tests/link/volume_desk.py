"""A ticket whose practice machine is linked, and its File system screen by its API."""

from __future__ import annotations

import csv
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from benches import Bench


class VolumeDesk:
    """A ticket whose machine is linked, and its Volume instrument."""

    def __init__(self, bench: Bench, name: str, **facts: Any) -> None:
        self.bench, self.name = bench, name
        self.number, self.secret = bench.linked(**facts)
        self.probe = bench.probe(name, self.secret)
        bench.until(self.number, lambda link: any(o["state"] == "done" for o in link["orders"]))

    def view(self, source: str = "") -> Any:
        return self.bench.call("GET", f"/api/tickets/{self.number}/volumes?source={source}")

    def ask(self, what: str, **more: Any) -> Any:
        now = self.view(more.pop("source", ""))
        return self.bench.call(
            "POST",
            f"/api/tickets/{self.number}/volumes/{what}",
            json={"source": now["source"], "first": now["first"], "by": "KT", **more},
        )

    def until(self, wanted: Callable[[Any], bool], source: str = "", seconds: float = 900) -> Any:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            now = self.view(source)
            if now["job"] is None and wanted(now):
                return now
            time.sleep(0.1)
        raise AssertionError(
            f"not in time: {now['job']} {now['look'] and now['look']['verdict']} {now['rescues'][:1]} {self.orders()}"
        )

    def looked(self) -> Any:
        self.ask("look")
        return self.until(lambda v: v["look"] is not None)

    def tape(self) -> list[Any]:
        return [e["body"] for e in self.bench.call("GET", f"/api/tickets/{self.number}")["tape"]]

    def orders(self) -> list[Any]:
        return self.bench.call("GET", f"/api/tickets/{self.number}/link")["orders"]  # type: ignore[no-any-return]


def rows(folder: str) -> dict[str, dict[str, str]]:
    with (Path(folder) / "manifest.csv").open(encoding="utf-8") as file:
        return {row["path"]: row for row in csv.DictReader(file)}
