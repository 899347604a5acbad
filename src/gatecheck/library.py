"""Reads the shipped knowledge tables from the package, so that core/ needs no files."""

from __future__ import annotations

from functools import cache
from importlib import resources

from gatecheck.core.belief.compile import compile_model
from gatecheck.core.belief.model import Model
from gatecheck.core.knowledge.loader import FILES, load


def shipped_texts() -> dict[str, str]:
    """File name -> TOML text of every shipped knowledge table."""
    folder = resources.files("gatecheck.core.knowledge")
    return {name: (folder / name).read_text(encoding="utf-8") for name in FILES}


def shipped_worlds() -> tuple[str, ...]:
    """Names of the other worlds that ship for rehearsals."""
    folder = resources.files("gatecheck.core.knowledge") / "worlds"
    return tuple(sorted(place.name for place in folder.iterdir() if place.is_dir()))


def world_texts(name: str) -> dict[str, str]:
    """The files that such a world lays over the shipped tables."""
    folder = resources.files("gatecheck.core.knowledge") / "worlds" / name
    return {file.name: file.read_text(encoding="utf-8") for file in folder.iterdir() if file.name in FILES}


@cache
def shipped_model() -> Model:
    """The shipped knowledge, compiled once per process."""
    return compile_model(load(shipped_texts()))
