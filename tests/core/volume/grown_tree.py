"""A folder of files to make volumes of with the system's own tools, and how such a volume is read back."""

from __future__ import annotations

import os
import random
from collections.abc import Callable
from pathlib import Path

from gatecheck.core.volume.tree import Filesystem, Hole, Node

FINDABLE = "home/choir/long.bin"


def grown(folder: Path) -> dict[str, bytes]:
    """Writes the folder; path -> bytes of its files. Beside them a link `etc/os-release` -> `usr/lib/os-release`."""
    draw = random.Random(11)
    files = {
        f"box{n % 5}/inner{n % 3}/letter{n}": draw.randbytes(draw.choice((0, 40, 3000, 40_000))) for n in range(90)
    }
    files |= {f"many/a rather long name of a letter, number {n}.txt": b"%d" % n for n in range(300)}
    files |= {FINDABLE: draw.randbytes(1 << 20), "usr/lib/os-release": b'NAME="Hollow"\nVERSION_ID="12"\n'}
    for path, data in files.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_bytes(data)
    (folder / "etc").mkdir()
    (folder / "etc/os-release").symlink_to("../usr/lib/os-release")
    return files


def read(volume: Filesystem, node: Node) -> bytes | None:
    """None where something of it could not be read."""
    parts = list(volume.content(node))
    return None if any(isinstance(p, Hole) for p in parts) else b"".join(p for p in parts if isinstance(p, bytes))


def files_of(volume: Filesystem) -> dict[str, bytes | None]:
    return {n.path: read(volume, n) for n in volume.nodes() if not n.is_folder and not n.link}


def listing(root: Path, line: Callable[[Path, str], str]) -> list[str]:
    """One line for everything in a folder, those of a folder followed by `$`: the kinds that `mkfs.xfs -p` reads."""
    found = []
    for place in sorted(root.iterdir()):
        kind = f"l--777 0 0 {os.readlink(place)}" if place.is_symlink() else f"---644 0 0 {place}"
        found.append(line(place, "d--755 0 0" if place.is_dir() and not place.is_symlink() else kind))
        if place.is_dir() and not place.is_symlink():
            found += [*listing(place, line), "$"]
    return found
