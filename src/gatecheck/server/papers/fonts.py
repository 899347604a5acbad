"""Fonts for print: the front end's faces and a last one for every other script, unpacked once when the front end is
built.

`python -m gatecheck.server.papers.fonts NODE_MODULES FOLDER`
"""

from __future__ import annotations

import sys
from importlib.util import find_spec
from pathlib import Path

FACE = "@fontsource/atkinson-hyperlegible-next/files/atkinson-hyperlegible-next"
SOURCES = {
    "text.ttf": f"{FACE}-latin-400-normal.woff", "text-bold.ttf": f"{FACE}-latin-700-normal.woff",
    "text-ext.ttf": f"{FACE}-latin-ext-400-normal.woff", "text-ext-bold.ttf": f"{FACE}-latin-ext-700-normal.woff",
    "every.ttf": "@fontsource/unifontex/files/unifontex-latin-400-normal.woff",
}  # fmt: skip


def unpack(modules: Path, folder: Path) -> None:
    """Write every face as TrueType into the folder."""
    from fontTools.ttLib import TTFont  # type: ignore[import-untyped]

    folder.mkdir(parents=True, exist_ok=True)
    for name, source in SOURCES.items():
        face = TTFont(modules / source)
        face.flavor = None
        if "BASE" in face:  # baselines for scripts on one line: of no use here, and broken in one of them
            del face["BASE"]
        face.save(folder / name)


def wide_faces() -> dict[str, Path]:
    """Faces for Greek, Cyrillic, Hebrew, Arabic and more that come with the plotting library: name -> file."""
    spec = find_spec("matplotlib")
    folder = Path(str(spec.origin)).parent / "mpl-data" / "fonts" / "ttf" if spec and spec.origin else Path()
    return {
        name: folder / file
        for name, file in (("wide", "DejaVuSans.ttf"), ("wide-bold", "DejaVuSans-Bold.ttf"))
        if (folder / file).is_file()
    }


if __name__ == "__main__":
    unpack(Path(sys.argv[1]), Path(sys.argv[2]))
