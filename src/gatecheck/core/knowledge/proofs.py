"""proof.toml: what a call asks for before it is carried out, whatever its odds."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from gatecheck.core.knowledge.instruments import Ids
from gatecheck.core.knowledge.toml_table import Table

Readings = Mapping[str, tuple[str, ...]]


class Proof(Struct, frozen=True):
    """When a drive, a lab, a board and a machine that starts are proven; see proof.toml."""

    drive_proven: Readings
    drive_signs: Readings
    drive_passed: Readings
    drive_looks: tuple[str, ...]
    """looks in the order in which they are made"""
    drive_beside: tuple[str, ...]
    memory_screens: tuple[str, ...]
    memory_looks: tuple[str, ...]
    locks_out: frozenset[str]
    """settings after which an encrypted volume asks for its key"""
    locked_systems: tuple[str, ...]
    surface_tests: tuple[str, ...]
    before_surface: str
    board_first: Mapping[str, tuple[str, ...]]
    """what the screen shows, or "otherwise" -> what is tried first, looks and fixes"""
    start_looks: tuple[str, ...]
    old_cell_years: float
    old_cell_doubt: float
    very_old_years: float
    quickly_opened: tuple[str, ...]
    old_systems: tuple[str, ...]


def load_proof(file: Table, ids: Ids) -> Proof:
    """Raises KnowledgeError for anything unknown."""
    drive, board, start = file.sub("drive"), file.sub("board"), file.sub("start")
    memory, locks, order = file.sub("memory"), file.sub("locks_out"), file.sub("order")
    drive.only("source", "proven", "signs", "passed", "looks", "beside")
    memory.only("source", "screens", "looks")
    locks.only("source", "settings", "systems")
    order.only("source", "surface_tests", "before_them")
    start.only("source", "looks", "old_cell_years", "old_cell_doubt", "very_old_years", "quickly_opened", "old_systems")
    shown = (*ids.outcomes["screen"], "otherwise")
    for name in board.values:
        if name not in (*shown, "source"):
            raise board.error(name, f"one of {', '.join(shown)}", repr(name))
    if "otherwise" not in board.values:
        raise board.error("otherwise", "a list of moves", "nothing")
    return Proof(
        drive_proven=_readings(drive.sub("proven"), ids),
        drive_signs=_readings(drive.sub("signs"), ids),
        drive_passed=_readings(drive.sub("passed"), ids),
        drive_looks=drive.ids("looks", ids.checks),
        drive_beside=drive.ids("beside", ids.checks),
        memory_screens=memory.ids("screens", ids.outcomes["screen"]),
        memory_looks=memory.ids("looks", ids.checks),
        locks_out=frozenset(locks.ids("settings", ids.outcomes)),
        locked_systems=locks.ids("systems", ids.facts["installed_os"]),
        surface_tests=order.ids("surface_tests", ids.checks),
        before_surface=order.one_of("before_them", ids.checks),
        board_first={name: board.ids(name, ids.outcomes) for name in board.values if name != "source"},
        start_looks=start.ids("looks", ids.checks),
        old_cell_years=start.number("old_cell_years"),
        old_cell_doubt=start.number("old_cell_doubt", high=1.0),
        very_old_years=start.number("very_old_years"),
        quickly_opened=start.ids("quickly_opened", ids.facts["form"]),
        old_systems=start.ids("old_systems", ids.facts["installed_os"]),
    )


def _readings(own: Table, ids: Ids) -> dict[str, tuple[str, ...]]:
    for move in own.values:
        if move not in ids.outcomes:
            raise own.error(move, "a known move", repr(move))
    return {move: own.ids(move, ids.outcomes[move]) for move in own.values}
