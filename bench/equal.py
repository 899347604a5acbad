"""What the product says, before and after a change: the same tapes and captures through two checkouts, compared.

    .venv/bin/python bench/equal.py [--base COMMIT] [--rehearsed N]

Cases: the demo's tapes, the practice machines with what their captures put on the tape, every tape that the core's
tests run, rehearsed machines of every world, and random tapes. Both checkouts get the very same cases through
`gatecheck triage` and `gatecheck read`; a worktree of the base is laid in a temporary folder. Prints what is equal,
what differs only in wording, and what differs; exit status 1 where more than words differs."""

from __future__ import annotations

import argparse
import io
import json
import os
import random
import subprocess
import sys
import tempfile
import zipfile
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT / "tests"))
WORDED = {"why", "release", "note", "text", "means", "verdict", "detail", "said"}
"""keys whose values are sentences"""
EXACT = 1e-9


def demo_cases() -> Iterator[dict[str, Any]]:
    """Tickets of the demo as they stand on its bench, closed ones included."""
    from gatecheck.server.demo.fill import BAYS, PREFIX, SHOP, fill
    from gatecheck.server.services import open_services
    from gatecheck.store.tickets import tape_of

    with tempfile.TemporaryDirectory() as folder:
        house = open_services(Path(folder), name=SHOP, prefix=PREFIX, bays=BAYS)
        fill(house)
        with house.shop.database.read() as connection:
            ids = [row[0] for row in connection.execute("SELECT id FROM ticket")]
            tapes = {ticket_id: [dict(e.body) for e in tape_of(connection, ticket_id)] for ticket_id in ids}
        for ticket_id, tape in tapes.items():
            yield {"facts": house.tickets.row_of(ticket_id).facts, "entries": tape}
        house.shop.database.close()


def rehearsed_cases(count: int) -> Iterator[dict[str, Any]]:
    """Tapes of rehearsed machines under the planner and the fixed order, each cut at a random place too."""
    from gatecheck.adapters.shipped_tables import shipped_worlds
    from gatecheck.cli.rehearse import rehearse_runs

    rng = random.Random(12)
    for world in (None, *shipped_worlds()):
        for runs in rehearse_runs(machines=count, seed=77, world=world, policies=["planner", "fixed"], jobs=2).values():
            for run in runs:
                tape = list(run.tape)
                facts = {k: v for k, v in run.facts.items() if k != "as_of_year"}
                yield {"facts": facts, "entries": tape}
                yield {"facts": facts, "entries": tape[: rng.randrange(1, len(tape) + 1)]}


def tested_cases(folder: Path) -> Iterator[dict[str, Any]]:
    """Every case that the core's tests run, written down by `tapes.case`."""
    record = folder / "cases.jsonl"
    subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "tests/core"],
        cwd=ROOT,
        check=False,
        stdout=subprocess.DEVNULL,
        env={**os.environ, "GATECHECK_RECORD": str(record)},
    )
    for line in sorted(set(record.read_text(encoding="utf-8").splitlines())):
        yield json.loads(line)


def random_cases(count: int) -> Iterator[dict[str, Any]]:
    """Well-formed nonsense: whatever it says, both must say it."""
    from gatecheck.adapters.shipped_tables import shipped_model

    rng, knowledge = random.Random(3), shipped_model().knowledge
    moves = [*knowledge.checks, *knowledge.fixes]
    for _ in range(count):
        facts = {name: rng.choice(values) for name, values in knowledge.facts.items() if rng.random() < 0.4}
        names = [rng.choice(moves) for _ in range(rng.randrange(0, 25))]
        yield {
            "facts": facts,
            "entries": [{"move": n, "outcome": rng.choice(list(knowledge.move(n).outcomes))} for n in names],
        }


# what earlier checkouts misread, which is why it stands among the patients; and they took the list of block devices for
# sense data
MISREAD = ("large-sectors", "first-sector", "controller", "no-drive", "mistyped")


def captures(folder: Path) -> list[str]:
    """Captures of every practice machine, and the raw pages of the tests."""
    from gatecheck.practice.patients import PATIENTS
    from practised import capture_of

    names = [str(ROOT / "tests" / "data" / "bench-a")]
    for patient in PATIENTS:
        if patient.id in MISREAD:
            continue
        place = folder / f"{patient.id}.gcap"
        with zipfile.ZipFile(io.BytesIO(capture_of(patient.id))) as old, zipfile.ZipFile(place, "w") as new:
            for name in old.namelist():
                if name != "block-devices.txt":
                    new.writestr(name, old.read(name))
        names.append(str(place))
    return names


def run_cli(tree: Path, *arguments: str) -> list[Any]:
    """What `gatecheck` of that checkout prints, a document a line."""
    code = (  # the command line of a checkout from before it was a package, too
        "import sys\n"
        "try: from gatecheck.cli.main import main\n"
        "except ImportError: from gatecheck.cli import main\n"
        "sys.exit(main(sys.argv[1:]))"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, *arguments],
        env={**os.environ, "PYTHONPATH": str(tree / "src")},
        cwd="/",
        check=False,
        capture_output=True,
        text=True,
    )
    if done.returncode:
        return [{"status": "unknown", "kind": f"refused: {done.stderr.strip()[-160:]}"}]
    return [json.loads(line) for line in done.stdout.splitlines()]


def differences(before: Any, after: Any, path: str = "") -> Iterator[tuple[str, Any, Any, bool]]:
    """(where, before, after, only words) of everything that is not equal; what is new in `after` is no difference."""
    if isinstance(before, dict) and isinstance(after, dict):
        if before.get("status") == "unknown" and after.get("status", "decoded") in ("decoded", "empty"):
            yield f"{path} read now that was not decoded before", before.get("kind"), after.get("kind"), True
            return
        for key, value in before.items():
            if key not in after:
                yield f"{path}.{key}", value, None, False
            else:
                for where, old, new, worded in differences(value, after[key], f"{path}.{key}"):
                    yield where, old, new, worded or (key in WORDED and isinstance(old, str))
    elif isinstance(before, list) and isinstance(after, list) and len(before) == len(after):
        for old, new in zip(before, after, strict=True):
            yield from differences(old, new, f"{path}[]")
    elif isinstance(before, float | int) and isinstance(after, float | int):
        if abs(before - after) > EXACT * max(1.0, abs(before)):
            yield path, before, after, False
    elif before != after:
        yield path, before, after, False


def report(kind: str, before: list[Any], after: list[Any]) -> bool:
    """Print what differs; True where only words do."""
    assert len(before) == len(after)
    places: Counter[tuple[str, bool]] = Counter()
    shown: dict[tuple[str, bool], set[str]] = {}
    touched = [0, 0]
    for old, new in zip(before, after, strict=True):
        found = list(differences(old, new))
        touched[0] += any(not worded for *_, worded in found)
        touched[1] += bool(found) and all(worded for *_, worded in found)
        for where, was, now, worded in found:
            places[where, worded] += 1
            shown.setdefault((where, worded), set()).add(
                f"{json.dumps(was, ensure_ascii=False)[:160]} -> {json.dumps(now, ensure_ascii=False)[:160]}"
            )
    equal = len(before) - sum(touched)
    print(
        f"{kind}: {len(before)} documents, {equal} equal in every word, {touched[1]} in all but words, "
        f"{touched[0]} "
        f"differ"
    )
    for (where, worded), count in places.most_common():
        print(f"  {'words' if worded else 'VALUE'} {where}: {count} times, {len(shown[where, worded])} kinds, such as")
        for text in sorted(shown[where, worded])[:6]:
            print(f"      {text}")
    return touched[0] == 0


def main() -> int:
    arguments = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    arguments.add_argument("--base", default="HEAD~1", help="commit to compare with")
    arguments.add_argument("--rehearsed", type=int, default=60, metavar="N", help="machines a world and policy")
    arguments.add_argument(
        "--keep", type=Path, help="keep the cases here, one a line, or take them from here if it exists"
    )
    given = arguments.parse_args()
    with tempfile.TemporaryDirectory(prefix="gatecheck-equal-") as name:
        folder = Path(name)
        tree = folder / "base"
        subprocess.run(
            ["git", "worktree", "add", "--detach", "-f", str(tree), given.base],
            cwd=ROOT,
            check=True,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        try:
            if given.keep and given.keep.exists():
                cases = [json.loads(line) for line in given.keep.read_text(encoding="utf-8").splitlines()]
            else:
                cases = [*demo_cases(), *tested_cases(folder), *rehearsed_cases(given.rehearsed), *random_cases(150)]
                if given.keep:
                    given.keep.write_text("".join(json.dumps(c) + "\n" for c in cases), encoding="utf-8")
            files = []
            for number, case in enumerate(cases):
                place = folder / f"{number}.json"
                place.write_text(json.dumps(case), encoding="utf-8")
                files.append(str(place))
            fine = report("triage", run_cli(tree, "triage", *files), run_cli(ROOT, "triage", *files))
            pages = captures(folder)
            fine &= report(
                "read",
                [d for p in pages for d in run_cli(tree, "read", p)],
                [d for p in pages for d in run_cli(ROOT, "read", p)],
            )
        finally:
            subprocess.run(["git", "worktree", "remove", "--force", str(tree)], cwd=ROOT, check=False)
    return 0 if fine else 1


if __name__ == "__main__":
    sys.exit(main())
