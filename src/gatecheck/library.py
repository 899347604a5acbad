"""Reads the shipped knowledge tables from the package, so that core/ needs no files."""

from __future__ import annotations

from functools import cache
from importlib import resources

from gatecheck.core.knowledge.loader import FILES, load
from gatecheck.core.triage.model import Model, compile_model


def shipped_texts() -> dict[str, str]:
    """File name -> TOML text of every shipped knowledge table."""
    folder = resources.files("gatecheck.core.knowledge")
    return {name: (folder / name).read_text(encoding="utf-8") for name in FILES}


@cache
def shipped_model() -> Model:
    """The shipped knowledge, compiled once per process."""
    return compile_model(load(shipped_texts()))
