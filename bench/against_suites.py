"""Our check and our repair of the test images that come with the system's own checkers, which nobody here made.

    python bench/against_suites.py FOLDER [ext] [fat]

FOLDER is a scratch folder: Debian's source packages `e2fsprogs` and `dosfstools` are fetched and unpacked there once,
and nothing of them is kept anywhere else. Each image is asked of the system's checker and of ours. Printed as a table:
found, missed, false alarms, repaired clean, untrue clean (ours finds nothing after our repair, the system's does), undo
exact; then each case that is not as wanted. A checker that asks whether to put something right has found it, also
where it ends with 0 (`e2fsck` does for sums of groups and for what it would read from a copy); a journal that it leaves
alone because nothing is to be written is judged by nobody."""

from __future__ import annotations

import argparse
import gzip
import hashlib
import os
import re
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.check import check
from gatecheck.core.volume.repair import repair_of
from gatecheck.core.volume.tree import DAMAGE

os.environ["PATH"] += ":/usr/sbin:/sbin"
PACKAGES = {"ext": "e2fsprogs", "fat": "dosfstools"}
_FOUND = (b"? no", b"trying backup blocks")
"""what `e2fsck` says where it found something, whatever it ends with; that a tree could be shorter is nothing wrong"""
_JOURNAL = ("journal-pending", "journal-broken")
_SECONDS = 20
_LARGEST = 600 << 20


@dataclass
class Result:
    """What the images of one kind came to; `cases`: those that are not as wanted."""

    counts: Counter[str] = field(default_factory=Counter)
    cases: list[str] = field(default_factory=list)

    def tell(self, what: str, name: str, more: object = "") -> None:
        self.counts[what] += 1
        self.cases.append(f"{what}: {name} {more}"[:220])


def _sources() -> str:
    """Where this machine's own packages come from, asked for sources. Raises FileNotFoundError."""
    own = [p.read_text() for p in sorted(Path("/etc/apt/sources.list.d").glob("*.sources"))]
    if not own:
        raise FileNotFoundError("/etc/apt/sources.list.d/*.sources: expected Debian's sources, got none")
    return re.sub(r"(?m)^Types:.*$", "Types: deb-src", "\n".join(own))


def fetched(folder: Path, package: str) -> Path:
    """The unpacked source package."""
    found = next((p for p in sorted(folder.glob(f"{package}-*")) if p.is_dir()), None)
    if found is not None:
        return found
    (folder / "lists/partial").mkdir(parents=True, exist_ok=True)
    (folder / "own.sources").write_text(_sources())
    options = [
        "-o",
        f"Dir::Etc::sourcelist={folder}/own.sources",
        "-o",
        "Dir::Etc::sourceparts=/dev/null",
        "-o",
        f"Dir::State::lists={folder}/lists",
    ]
    for more in (["update"], ["source", "--download-only", package]):
        subprocess.run(["apt-get", *options, *more], cwd=folder, check=True, capture_output=True)
    subprocess.run(["tar", "xf", str(next(folder.glob(f"{package}_*.orig.tar.*z")))], cwd=folder, check=True)
    return next(p for p in sorted(folder.glob(f"{package}-*")) if p.is_dir())


def images(kind: str, source: Path, work: Path) -> Iterator[Path]:
    tests = source / "tests"
    if kind == "ext":
        for packed in sorted(tests.glob("*/image.gz")):
            place = work / f"{packed.parent.name}.img"
            place.write_bytes(gzip.decompress(packed.read_bytes()))
            yield place
            place.unlink()
        return
    for listed in sorted(tests.glob("*.xxd")):
        place = work / f"{listed.stem}.img"
        _from_hex(listed, place)
        yield place
        place.unlink()


def _from_hex(listed: Path, place: Path) -> None:
    """Lines `address: hex digits  text` as bytes."""
    with listed.open(errors="replace") as lines, place.open("wb") as out:
        end = 0
        for line in lines:
            found = re.match(r"^([0-9a-f]+):\s((?:[0-9a-f]{2,4} ?)+)", line)
            if found:
                data = bytes.fromhex(found[2].replace(" ", ""))
                out.seek(int(found[1], 16))
                out.write(data)
                end = int(found[1], 16) + len(data)
        out.truncate(end)


def theirs(kind: str, place: Path) -> bool:
    """Does the system's checker find something."""
    command = ["e2fsck", "-fn", str(place)] if kind == "ext" else ["fsck.fat", "-n", str(place)]
    try:
        said = subprocess.run(command, capture_output=True, timeout=_SECONDS, check=False)
    except subprocess.TimeoutExpired:
        return True
    asked = [line for line in (said.stdout + said.stderr).splitlines() if any(mark in line for mark in _FOUND)]
    return said.returncode != 0 or (kind == "ext" and any(b"Optimize?" not in line for line in asked))


def judge(kind: str, place: Path, result: Result) -> None:
    size = place.stat().st_size // 512
    if size * 512 > _LARGEST or not size:
        return
    found = check(ImageSectors(str(place)), 0, size - 1)
    told = [f for f in found.findings if f.severity != "note"]
    damaged = theirs(kind, place)
    result.counts["images"] += 1
    result.counts["damaged"] += damaged
    if not damaged:
        if any(f.severity == DAMAGE and f.id not in _JOURNAL for f in told):
            result.tell("false alarm", place.stem, [(f.id, f.where) for f in told][:3])
        return
    if not told:
        result.tell("missed", place.stem)
        return
    result.counts["found"] += 1
    _repair(kind, place, size, result)


def _repair(kind: str, place: Path, size: int, result: Result) -> None:
    before = hashlib.sha256(place.read_bytes()).digest()
    try:
        plan = repair_of(ImageSectors(str(place)), 0, size - 1)
    except DecodeError as error:
        result.tell("no plan", place.stem, error)
        return
    writes = [write for group in plan.groups for write in group.writes]
    if not writes:
        result.tell("no plan", place.stem)
        return
    undo: list[tuple[int, bytes]] = []
    with place.open("r+b") as file:
        for write in writes:
            file.seek(write.at)
            undo.append((write.at, file.read(len(write.data))))
            file.seek(write.at)
            file.write(write.data)
    clean = not [f for f in check(ImageSectors(str(place)), 0, size - 1).findings if f.severity != "note"]
    if theirs(kind, place):
        result.tell("untrue clean" if clean else "left damaged", place.stem)
    else:
        result.counts["repaired"] += 1
    with place.open("r+b") as file:
        for at, data in reversed(undo):
            file.seek(at)
            file.write(data)
    result.counts["undone"] += hashlib.sha256(place.read_bytes()).digest() == before


def judged(kind: str, folder: Path) -> Result:
    work, result = folder / "images", Result()
    work.mkdir(parents=True, exist_ok=True)
    for place in images(kind, fetched(folder, PACKAGES[kind]), work):
        judge(kind, place, result)
    return result


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=Path)
    parser.add_argument("kinds", nargs="*", default=list(PACKAGES))
    arguments = parser.parse_args()
    columns = (
        "images",
        "damaged",
        "found",
        "missed",
        "false alarm",
        "repaired",
        "no plan",
        "left damaged",
        "untrue clean",
    )
    results = {kind: judged(kind, arguments.folder) for kind in arguments.kinds}
    print(f"{'':6}" + "".join(f"{c:>14}" for c in columns))
    for kind, result in results.items():
        print(f"{kind:6}" + "".join(f"{result.counts[c]:14}" for c in columns))
    for result in results.values():
        print("\n".join(result.cases))
    return 0


if __name__ == "__main__":
    sys.exit(main())
