"""Reads the shipped knowledge tables from the package, so that core/ needs no files."""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, cast

import gatecheck
from gatecheck.adapters.compile_cache import kept
from gatecheck.core.errors import InputError
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.words.catalogue import Words

if TYPE_CHECKING:
    from gatecheck.core.belief.model import Model
    from gatecheck.core.records.rules import RecordRules
    from gatecheck.core.volume.people import Rules

_HERE = Path(gatecheck.__file__).parent


def shipped_texts() -> dict[str, str]:
    """File name -> TOML text of every shipped knowledge table."""
    from gatecheck.core.knowledge.loader import FILES

    folder = _HERE / "core" / "knowledge"
    return {name: (folder / name).read_text(encoding="utf-8") for name in FILES}


def own_texts(folder: Path) -> dict[str, str]:
    """The tables that a shop lays over the shipped ones: every TOML file of the folder. Empty where there is none.
    Raises InputError."""
    found = {}
    for file in sorted(folder.glob("*.toml")) if folder.is_dir() else []:
        try:
            found[file.name] = file.read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise InputError(f"{file}: expected a readable text in UTF-8, got {error}") from error
    return found


def shipped_worlds() -> tuple[str, ...]:
    """Names of the other worlds that ship for rehearsals."""
    folder = _HERE / "core" / "knowledge" / "worlds"
    return tuple(sorted(place.name for place in folder.iterdir() if place.is_dir()))


def world_texts(name: str) -> dict[str, str]:
    """The files that such a world lays over the shipped tables."""
    from gatecheck.core.knowledge.loader import FILES

    folder = _HERE / "core" / "knowledge" / "worlds" / name
    return {file.name: file.read_text(encoding="utf-8") for file in folder.iterdir() if file.name in FILES}


LANGUAGE = "en"


def words_texts(language: str = LANGUAGE) -> dict[str, str]:
    """File name -> TOML text of a language's catalogue. Raises FileNotFoundError for a language that does not ship."""
    folder = _HERE / "core" / "words" / language
    return {file.name: file.read_text(encoding="utf-8") for file in folder.iterdir() if file.name.endswith(".toml")}


def words_over(knowledge: Knowledge) -> Words:
    """The shipped catalogue over these tables."""
    return Words.of(
        kept("words", _files("core/words/" + LANGUAGE), lambda: Words(words_texts(), knowledge).sentences), knowledge
    )


@cache
def shipped_words() -> Words:
    """The shipped catalogue over the shipped tables, read once per process."""
    return words_over(shipped_model().knowledge)


class LazyKnowledge:
    """The shipped tables, read when a sentence asks for a name of theirs."""

    def __getattr__(self, name: str) -> object:
        return getattr(shipped_model().knowledge, name)


@cache
def disk_words() -> Words:
    """The shipped catalogue for commands that speak of disks and volumes: hardly a sentence of theirs needs the tables,
    and reading them takes longer than the work."""
    return words_over(cast(Knowledge, LazyKnowledge()))


@cache
def record_rules() -> RecordRules:
    """What an installed system's records mean."""
    from gatecheck.core.records.rules import read_record_rules

    return read_record_rules((_HERE / "core" / "records" / "records.toml").read_text(encoding="utf-8"))


@cache
def people_rules() -> Rules:
    """How the customer's own folders on a volume are known."""
    from gatecheck.core.volume.people import read_rules

    return read_rules((_HERE / "core" / "volume" / "people.toml").read_text(encoding="utf-8"))


@cache
def shipped_model() -> Model:
    """The shipped knowledge, compiled once for all processes."""
    return kept("tables", [*_files("core/knowledge"), *_files("core/belief")], _compiled)


def _compiled() -> Model:
    from gatecheck.core.belief.compile import compile_model
    from gatecheck.core.knowledge.loader import load

    return compile_model(load(shipped_texts()))


def _files(folder: str) -> list[Path]:
    """The program's own code and tables in a folder of the package."""
    return [file for file in (_HERE / folder).iterdir() if file.suffix in (".py", ".toml")]
