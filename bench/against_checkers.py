"""Our check of hurt volumes against the system's own checkers: who finds something where the other finds nothing.

    python bench/against_checkers.py --rounds 300 --seed 1 ext4 ext3 ext2 fat16 fat32 exfat

Each round hurts a healthy volume in one place (a field of an inode, a folder's entry, a map, a table, a superblock, a
FAT) and asks both. `e2fsck -fn`, `fsck.fat -n` and `fsck.exfat -n` end with 0 where they find nothing. Printed: how
often both found something, both nothing, and each case where they differ, so that it can be looked at. Of NTFS Debian
has no checker that looks at as much."""

from __future__ import annotations

import argparse
import hashlib
import os
import random
import subprocess
import tempfile
from collections import Counter
from collections.abc import Callable
from pathlib import Path

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.repair import repair_of

os.environ["PATH"] += ":/usr/sbin:/sbin"
_KINDS: dict[str, tuple[list[str], int, list[str]]] = {
    "ext4": (["mke2fs", "-q", "-t", "ext4", "-b", "1024", "-O", "inline_data"], 16, ["e2fsck", "-fn"]),
    "ext4b": (["mke2fs", "-q", "-t", "ext4", "-b", "4096"], 24, ["e2fsck", "-fn"]),
    "ext3": (["mke2fs", "-q", "-t", "ext3", "-b", "2048"], 16, ["e2fsck", "-fn"]),
    "ext2": (["mke2fs", "-q", "-t", "ext2", "-b", "1024"], 16, ["e2fsck", "-fn"]),
    "fat12": (["mkfs.fat", "-F", "12"], 4, ["fsck.fat", "-n"]),
    "fat16": (["mkfs.fat", "-F", "16"], 20, ["fsck.fat", "-n"]),
    "fat32": (["mkfs.fat", "-F", "32", "-s", "1"], 40, ["fsck.fat", "-n"]),
    "exfat": (["mkfs.exfat", "-c", "4096"], 24, ["fsck.exfat", "-n"]),
}


def tree(place: Path, rng: random.Random) -> None:
    for folder in ("home/maya/Pictures", "etc", "boot", "many", "usr/lib"):
        (place / folder).mkdir(parents=True)
    for n in range(220):
        (place / f"many/a file with a name of some length {n:04}.txt").write_bytes(
            rng.randbytes(rng.choice([0, 10, 100, 3000]))
        )
    for n in range(8):
        (place / f"home/maya/Pictures/p{n}.jpg").write_bytes(rng.randbytes(30000))
    (place / "usr/lib/big").write_bytes(rng.randbytes(900_000))
    (place / "etc/hosts").write_text("127.0.0.1 localhost\n")


def healthy(kind: str, folder: Path) -> Path:
    make, mib, _ = _KINDS[kind]
    image, files = folder / f"{kind}.img", folder / f"{kind}.tree"
    files.mkdir()
    tree(files, random.Random(3))
    if kind.startswith("ext"):
        subprocess.run([*make, "-d", str(files), str(image), f"{mib}M"], check=True, capture_output=True)
        subprocess.run(["e2fsck", "-fyD", str(image)], capture_output=True, check=False)
        return image
    with image.open("wb") as file:
        file.truncate(mib << 20)
    subprocess.run([*make, str(image)], check=True, capture_output=True)
    if kind == "exfat":  # Debian has nothing that fills one from outside a kernel: our own encoder does
        from gatecheck.core.volume.exfat.encode import exfat_volume

        named = {str(p.relative_to(files)): p.read_bytes() for p in sorted(files.rglob("*")) if p.is_file()}
        with image.open("rb+") as file:
            for at, data in exfat_volume(named, sectors=(mib << 20) // 512).items():
                file.seek(at * 512)
                file.write(data)
    else:
        subprocess.run(
            ["mcopy", "-s", "-Q", "-i", str(image), *map(str, sorted(files.iterdir())), "::"],
            check=True,
            capture_output=True,
            env={**os.environ, "MTOOLS_SKIP_CHECK": "1"},
        )
    return image


def hot(image: Path) -> list[int]:
    """Bytes that are not zero and belong to structures, as far as that can be told from outside: not within the
    contents of files, which are random here."""
    raw = image.read_bytes()
    found = []
    for at in range(0, len(raw), 64):
        piece = raw[at : at + 64]
        if any(piece) and len(set(piece)) < 40:  # random bytes are nearly all different
            found.append(at)
    return found


def hurt(raw: bytearray, places: list[int], rng: random.Random) -> tuple[int, bytes, bytes]:
    at = rng.choice(places) + rng.randrange(64)
    wide = rng.choice([1, 1, 1, 2, 4])
    before = bytes(raw[at : at + wide])
    roll = rng.random()
    if roll < 0.4:
        after = bytes([before[0] ^ 1 << rng.randrange(8)]) + before[1:]
    elif roll < 0.6:
        after = rng.randbytes(wide)
    elif roll < 0.75:
        after = bytes(wide)
    elif roll < 0.85:
        after = b"\xff" * wide
    else:
        after = ((int.from_bytes(before, "little") + rng.choice([-1, 1, 2, -2, 8])) % (1 << 8 * wide)).to_bytes(
            wide, "little"
        )
    raw[at : at + wide] = after
    return at, before, after


def told(image: Path, checker: list[str]) -> tuple[bool, str]:
    done = subprocess.run(
        [*checker, str(image)], capture_output=True, text=True, errors="replace", timeout=60, check=False
    )
    quiet = ("e2fsck ", "Pass ", "fsck.fat ", "exfatprogs ", str(image))
    lines = [
        line.strip() for line in (done.stdout + done.stderr).splitlines() if line.strip() and not line.startswith(quiet)
    ]
    return done.returncode != 0, " | ".join(lines[:3])[:230]


def files(image: Path) -> dict[str, str]:
    """Path -> sum of every file, as our reader has them."""
    disk = ImageSectors(str(image))
    volume = opened(disk, 0, (disk.length or 1) - 1).volume
    found = {}
    for node in volume.nodes() if volume is not None else ():
        if not node.is_folder and node.size < 1 << 24:
            found[node.path] = hashlib.sha256(
                b"".join(p if isinstance(p, bytes) else b"?" for p in volume.content(node))
            ).hexdigest()
    return found


def repaired(
    copy: Path, raw: bytearray, checker: list[str], healthy: dict[str, str], *, is_lossless: bool
) -> tuple[str, str]:
    """What became of a hurt volume: nothing for us to do, repaired as far as the checker sees, what is left of it; or
    harmed: a file that was right before is not any more."""
    disk = ImageSectors(str(copy))
    right = {path for path, own in files(copy).items() if healthy.get(path) == own}
    try:
        plan = repair_of(disk, 0, (disk.length or 1) - 1)
        if is_lossless:
            kept = [own.id for own in plan.groups if not own.loses]
            plan = repair_of(disk, 0, (disk.length or 1) - 1, only=kept)
    except DecodeError as error:
        return "not to be repaired", str(error)
    if not plan.groups:
        return "nothing to repair", ""
    for one in plan.groups:
        for at, data in one.pairs:
            raw[at : at + len(data)] = data
    copy.write_bytes(raw)
    now = files(copy)
    harmed = sorted(path for path in right if now.get(path) != healthy[path])
    if harmed:
        return "harmed", f"{[g.id for g in plan.groups]} {harmed[:3]}"
    wrong, what = told(copy, checker)
    after = ", ".join(
        f"{f.id} {f.where}" for f in check(ImageSectors(str(copy)), 0, (disk.length or 1) - 1).findings[:3]
    )
    return (
        "left" if wrong or after else "repaired"
    ), f"{[g.id for g in plan.groups]} theirs: {what if wrong else '-'}; ours: {after or '-'}"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--places", type=int, default=1, help="how many places each round hurts")
    parser.add_argument("--repair", action="store_true", help="repair what we find, then ask the other checker again")
    parser.add_argument("--lossless", action="store_true", help="only what is taken unless somebody says otherwise")
    parser.add_argument("kinds", nargs="*", default=list(_KINDS))
    arguments = parser.parse_args()
    say: Callable[[str], None] = lambda text: print(text, flush=True)  # noqa: E731
    with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
        for kind in arguments.kinds:
            rng = random.Random(f"{kind} {arguments.seed}")
            image, checker = healthy(kind, Path(folder)), _KINDS[kind][2]
            whole, places, copy = image.read_bytes(), hot(image), Path(folder) / "hurt.img"
            listed = files(image)
            assert not told(image, checker)[0], told(image, checker)
            counts: Counter[str] = Counter()
            for number in range(arguments.rounds):
                raw = bytearray(whole)
                for _ in range(arguments.places):
                    at, before, after = hurt(raw, places, rng)
                if raw == whole:
                    continue
                copy.write_bytes(raw)
                theirs, what = told(copy, checker)
                disk = ImageSectors(str(copy))
                try:
                    report = check(disk, 0, (disk.length or 1) - 1)
                    ours = bool(report.findings)
                    own = ", ".join(f"{f.id} {f.where}".strip() for f in report.findings[:3])
                except Exception as error:  # what does not end in a verdict is told as such
                    ours, own = True, f"{type(error).__name__}: {error}"
                    counts["no verdict"] += not theirs
                counts[
                    "both"
                    if ours and theirs
                    else "neither"
                    if not ours and not theirs
                    else "only ours"
                    if ours
                    else "only theirs"
                ] += 1
                if ours != theirs:
                    say(
                        f"  {kind} {number} at {at:#x} {before.hex()} -> {after.hex()}: "
                        + (f"only ours: {own}" if ours else f"only theirs: {what}")
                    )
                if arguments.repair and ours:
                    state, left = repaired(copy, raw, checker, listed, is_lossless=arguments.lossless)
                    counts[state] += 1
                    if state != "repaired":
                        say(f"  {kind} {number} at {at:#x} {before.hex()} -> {after.hex()}: {state}: {own} / {left}")
            say(f"{kind}: {dict(counts)}")


if __name__ == "__main__":
    main()
