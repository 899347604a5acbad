"""Fuzzing, bounded in time: every reader of bytes with mutated pages, every route of the API with what its own
description allows and more.

A finding is a foreign exception, an answer of 500, text that cannot be written, or anything that takes longer than two
seconds. Inputs that found something are kept in `tests/corpus` and tried first at every later run, and by `make test`.
`make fuzz SECONDS=600`."""

from __future__ import annotations

import argparse
import hashlib
import json
import multiprocessing
import os
import random
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any
from unittest.mock import patch

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
sys.path.insert(0, str(Path(__file__).parents[1] / "tests" / "link"))

from fastapi.testclient import TestClient

from gatecheck.adapters.capture_files import pages_of
from gatecheck.adapters.shipped_tables import shipped_words
from gatecheck.core.capture.document import capture_document
from gatecheck.core.capture.read import read_capture
from gatecheck.core.errors import GateCheckError
from gatecheck.practice.patients import PATIENTS
from gatecheck.server.app import create_app
from gatecheck.server.services import open_services
from practised import capture_of
from serving import HERE, ME

CORPUS = Path(__file__).parents[1] / "tests" / "corpus"
MOST_SECONDS = 2.0
Judge = Callable[[bytes], None]


class Found(Exception):
    """Something that should not be."""


# --- readers -------------------------------------------------------------------------------------------------------

WORDS = shipped_words()


def judge_pages(data: bytes) -> None:
    """A corpus entry: pages as JSON, path -> hex."""
    pages = {path: bytes.fromhex(text) for path, text in json.loads(data).items()}
    began = time.process_time()
    try:
        document = capture_document(read_capture(pages, WORDS.knowledge.findings), WORDS)
        json.dumps(
            document, ensure_ascii=False, default=lambda value: value.hex() if isinstance(value, bytes) else str(value)
        ).encode("utf-8")
    except GateCheckError:
        pass
    except Exception as error:
        raise Found(f"{type(error).__name__}: {error}") from error
    if time.process_time() - began > MOST_SECONDS:
        raise Found(f"took {time.process_time() - began:.1f} s")


def mutated(rng: random.Random, data: bytes) -> bytes:
    """A page with some of its bytes other than they were."""
    raw = bytearray(data[: rng.choice((len(data), len(data), max(1, len(data) // 2), 600))])
    for _ in range(rng.choice((0, 1, 2, 8, 64))):
        if not raw:
            break
        at = rng.randrange(len(raw))
        how = rng.randrange(6)
        if how == 0:
            raw[at] = rng.randrange(256)
        elif how == 1:
            raw[at : at + 4] = rng.choice((b"\xff\xff\xff\xff", b"\0\0\0\0", b"\x7f\xff\xff\xff", b"\1\0\0\0"))
        elif how == 2:
            del raw[at : at + rng.randrange(1, 40)]
        elif how == 3:
            raw[at:at] = raw[at : at + rng.randrange(1, 200)]
        elif how == 4:
            raw[at : at + 8] = rng.randbytes(8)
        else:
            raw += rng.randbytes(rng.randrange(1, 600))
    return bytes(raw)


def page_cases(rng: random.Random) -> Iterator[dict[str, bytes]]:
    """Captures of practice machines with some of their pages mutated, swapped or blown up."""
    captures = [pages_of("x.gcap", capture_of(p.id)) for p in PATIENTS if p.id != "hangs"]
    every = [(path, data) for pages in captures for path, data in pages.items()]
    while True:
        pages = dict(rng.choice(captures)) if rng.random() < 0.3 else dict(rng.sample(every, rng.randrange(1, 6)))
        for path in rng.sample(sorted(pages), min(len(pages), rng.randrange(1, 6))):
            other = rng.choice(every)[1] if rng.random() < 0.1 else pages[path]
            pages[path] = mutated(rng, other) * (
                rng.choice((64, 1000)) if rng.random() < 0.02 and len(other) < 4000 else 1
            )
        yield pages


# --- the API -------------------------------------------------------------------------------------------------------

TEXTS = (
    "",
    "KT",
    "Ferrow Lathe-14",
    "x" * 300,
    "\u0000",
    "é\u202e",
    "🧰",
    "null",
    "-1",
    "../../etc/passwd",
    "<b>",
    "'; --",
    "ata1",
    "sda",
    "screen",
    "no-boot-device",
    "A" * 5000,
)
NUMBERS = (0, 1, 2, -1, 3, 9, 99, 100, 1 << 31, 1 << 53, (1 << 59), 0.5, 1e300, -1e-300)


def value_of(rng: random.Random, schema: dict[str, Any], whole: dict[str, Any], depth: int = 0) -> Any:
    """Something that the schema allows, or nearly."""
    if rng.random() < 0.08 or depth > 6:
        return rng.choice((None, True, [], {}, [[]], {"a": {"b": []}}, *TEXTS, *NUMBERS))
    if "$ref" in schema:
        return value_of(rng, whole["components"]["schemas"][schema["$ref"].split("/")[-1]], whole, depth + 1)
    for key in ("anyOf", "oneOf", "allOf"):
        if key in schema:
            return value_of(rng, rng.choice(schema[key]), whole, depth + 1)
    if "enum" in schema:
        return rng.choice(schema["enum"])
    kind = schema.get("type")
    if kind == "object":
        made = {
            name: value_of(rng, own, whole, depth + 1)
            for name, own in schema.get("properties", {}).items()
            if name in schema.get("required", ()) or rng.random() < 0.5
        }
        if schema.get("additionalProperties"):
            made |= {
                rng.choice(ENTRY_KEYS): rng.choice((*TEXTS, *NUMBERS, {}, {"clean": 1}, ["drive.media"]))
                for _ in range(rng.randrange(3))
            }
        return made
    if kind == "array":
        return [value_of(rng, schema.get("items", {}), whole, depth + 1) for _ in range(rng.randrange(4))]
    if kind == "integer":
        return rng.choice([n for n in NUMBERS if isinstance(n, int)])
    if kind == "number":
        return rng.choice(NUMBERS)
    return rng.choice((True, False)) if kind == "boolean" else None if kind == "null" else rng.choice(TEXTS)


ENTRY_KEYS = (
    "move",
    "outcome",
    "weights",
    "undo",
    "fact",
    "put_back",
    "override",
    "reason",
    "started",
    "minutes",
    "changed",
    "before",
    "after",
    "walk",
    "saw",
    "value",
    "at",
    "tried_key",
    "worked",
    "opens",
    "signed",
    "fix",
    "proven",
    "note",
    "found",
    "odds",
    "rests_on",
    "budget",
    "data",
    "drive_kind",
)


def entry_of(rng: random.Random, words: dict[str, Any]) -> dict[str, Any]:
    """An entry that may well be one."""
    move = rng.choice(words["moves"])
    choices: list[dict[str, Any]] = [
        {"move": move["id"], "outcome": rng.choice(move["outcomes"])},
        {"move": move["id"], "weights": {o: rng.choice(NUMBERS) for o in move["outcomes"][:3]}},
        {"undo": rng.choice(NUMBERS)},
        {"fact": {rng.choice(("data", "budget", "drive_kind", "x")): rng.choice((*TEXTS, *NUMBERS, "hdd", "none"))}},
        {"put_back": move["id"]},
        {"started": move["id"], "minutes": rng.choice(NUMBERS)},
        {"changed": move["id"], "before": rng.choice(TEXTS)},
        {"signed": rng.choice(("repair", "replace", "x")), "fix": move["id"]},
        {"proven": rng.sample([f["id"] for f in words["faults"]], 2)},
        {"note": rng.choice(TEXTS)},
        {"tried_key": rng.choice(TEXTS), "opens": "setup", "worked": True},
        {"saw": "drive", "at": "live", "value": "right"},
        {"override": rng.choice(sorted(words["interlocks"])), "move": move["id"], "reason": rng.choice(TEXTS)},
    ]
    entry = rng.choice(choices)
    return {**entry, rng.choice(ENTRY_KEYS): rng.choice((*TEXTS, *NUMBERS))} if rng.random() < 0.1 else entry


class Api:
    """One server that is asked everything its own description names."""

    def __init__(self, folder: Path) -> None:
        self.client = TestClient(
            create_app(open_services(folder)), base_url=HERE, client=ME, raise_server_exceptions=False
        )
        self.document = self.client.get("/api/openapi.json").json()
        self.words = self.client.get("/api/words").json()
        self.routes = [
            (method, path, own)
            for path, methods in self.document["paths"].items()
            for method, own in methods.items()
            if path not in ("/api/events",) and "practice" not in path
        ]
        self.statuses: Counter[int] = Counter()
        self.tickets: list[int] = []
        self.fresh()

    def fresh(self) -> None:
        """Three new tickets to work on: a tape of a thousand entries is no finding."""
        made = [
            self.client.post(
                "/api/tickets", json={"customer": "Choir office", "machine": "Ferrow Lathe-14", "by": "KT"}
            )
            for _ in range(3)
        ]
        self.tickets = [answer.json()["id"] for answer in made]

    def ask(self, rng: random.Random) -> None:
        """One request. Raises Found."""
        method, path, own = rng.choice(self.routes)
        if rng.random() < 0.4:
            method, path, own = (
                "post",
                "/api/tickets/{ticket_id}/entries",
                self.document["paths"]["/api/tickets/{ticket_id}/entries"]["post"],
            )
        url, query = path, {}
        for parameter in own.get("parameters", []):
            value = (
                rng.choice((*self.tickets, *self.tickets, rng.choice(NUMBERS)))
                if parameter["name"].endswith("id")
                else rng.choice((*TEXTS, *NUMBERS))
            )
            if parameter["in"] == "path":
                url = url.replace(
                    "{" + parameter["name"] + "}",
                    str(value).replace("/", "%2F").replace("\0", "%00").replace("?", "%3F") or "x",
                )
            elif parameter["in"] == "query":
                query[parameter["name"]] = str(value)
        more: dict[str, Any] = {"params": query}
        content = own.get("requestBody", {}).get("content", {})
        if "application/json" in content:
            body = value_of(rng, content["application/json"]["schema"], self.document)
            if path.endswith("/entries"):
                body = {"entry": entry_of(rng, self.words), "by": "KT"}
            more["json"] = body
        elif "multipart/form-data" in content:
            more |= {
                "files": {"file": (rng.choice(TEXTS[1:]) or "x", rng.randbytes(rng.choice((0, 10, 512, 4096))))},
                "data": {"by": rng.choice(TEXTS)},
            }
        began = time.process_time()  # of the processor: a machine that others use takes as long as it likes
        try:
            answer = self.client.request(method, url, **more)
        except (ValueError, TypeError) as error:  # what the client itself cannot send
            if "JSON" in str(error) or "URL" in str(error) or "surrogates" in str(error):
                return
            raise
        spent = time.process_time() - began
        self.statuses[answer.status_code] += 1
        if answer.status_code >= 500:
            raise Found(
                f"{method} {url} {json.dumps(more.get('json'))[:400]}: {answer.status_code} {answer.text[:300]}"
            )
        if spent > MOST_SECONDS:
            raise Found(f"{method} {url} {json.dumps(more.get('json'))[:300]}: took {spent:.1f} s")

    def check(self) -> None:
        """After all that the bench and every ticket can be looked at."""
        rows = self.client.get("/api/bench")
        if rows.status_code != 200 or any(row["broken"] for row in rows.json()["rows"]):
            raise Found(
                f"the bench: {rows.status_code} "
                f"{[row['broken'] for row in rows.json().get('rows', []) if row['broken']][:2]}"
            )
        for row in rows.json()["rows"][:6]:
            if self.client.get(f"/api/tickets/{row['id']}").status_code != 200:
                raise Found(f"ticket {row['id']} cannot be looked at")
        self.fresh()


# --- the link ------------------------------------------------------------------------------------------------------


def histories(seeds: Sequence[int]) -> list[str]:
    """Histories of the link with these seeds; what should not be."""
    from histories import counter, history

    found = []
    with tempfile.TemporaryDirectory() as folder:
        at = counter(Path(folder))
        with at.client:
            for seed in seeds:
                own = history(at, seed)
                found += [f"history {seed}: {text}" for text in own.wrong]
    return found


def all_histories(count: int, seed: int) -> list[str]:
    """So many of them, over all processors: no byte outside of what was confirmed, and every written byte can be taken
    back."""
    seeds, jobs = list(range(seed, seed + count)), os.cpu_count() or 1
    parts = [seeds[at : at + 50] for at in range(0, count, 50)]
    found: list[str] = []
    with (
        tempfile.TemporaryDirectory() as folder,
        patch.dict(os.environ, TMPDIR=folder),
        multiprocessing.get_context("spawn").Pool(jobs, maxtasksperchild=4) as pool,
    ):
        for done, own in enumerate(pool.imap_unordered(histories, parts), 1):
            found += own
            if done % 8 == 0:
                print(f"{min(count, done * 50)} histories of the link, {len(found)} findings", flush=True)
    return found


# --- the run -------------------------------------------------------------------------------------------------------


def tried_again() -> list[str]:
    """What the kept corpus finds now; empty where all is mended."""
    found = []
    for place in sorted(CORPUS.glob("pages-*.json")):
        try:
            judge_pages(place.read_bytes())
        except Found as error:
            found.append(f"{place.name}: {error}")
    return found


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=float, default=60.0)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    parser.add_argument("--histories", type=int, default=0, metavar="N", help="random histories of the link besides")
    chosen = parser.parse_args()
    rng, end = random.Random(chosen.seed), time.monotonic() + chosen.seconds
    found, counts, slowest = tried_again(), Counter[str](), 0.0
    cases = page_cases(rng)
    with tempfile.TemporaryDirectory() as folder:
        api = Api(Path(folder))
        print(f"seed {chosen.seed}", flush=True)
        while time.monotonic() < end and len(found) < 20:
            pages = next(cases)
            raw = json.dumps({path: data.hex() for path, data in pages.items()}).encode()
            began = time.process_time()
            try:
                judge_pages(raw)
            except Found as error:
                name = f"pages-{hashlib.sha256(raw).hexdigest()[:12]}.json"
                if len(raw) < 1 << 20:
                    (CORPUS / name).write_bytes(raw)
                found.append(f"{name}: {error}")
            slowest = max(slowest, time.process_time() - began)
            counts["captures"] += 1
            for _ in range(6):
                try:
                    api.ask(rng)
                except Found as error:
                    found.append(str(error))
                counts["requests"] += 1
            if counts["captures"] % 200 == 0:
                try:
                    api.check()
                except Found as error:
                    found.append(str(error))
                    print(f"  {error}", flush=True)
                if sum(counts.values()) % 7 == 0:
                    print(
                        f"{counts['captures']} captures, {counts['requests']} requests, {len(found)} findings",
                        flush=True,
                    )
        api.check()
    print(
        f"seed {chosen.seed}: {counts['captures']} captures (slowest {slowest:.2f} s), {counts['requests']} "
        f"requests "
        f"{dict(sorted(api.statuses.items()))}, {len(found)} findings"
    )
    if chosen.histories:
        found += all_histories(chosen.histories, chosen.seed)
        print(f"seed {chosen.seed}: {chosen.histories} histories of the link")
    for text in found:
        print(f"  {text}")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
