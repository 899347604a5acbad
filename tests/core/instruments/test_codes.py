"""The codes that machines' own tests print: what turned out, at the nearest level, each ticket once."""

from __future__ import annotations

import pytest

from gatecheck.core.instruments.codes import Printed, known, plain, seen_of
from gatecheck.core.instruments.keys import machine_of

HERE = machine_of("Ferrow Lathe-14", "pc")
SERIES, MAKER, OTHER = (machine_of(name, "pc") for name in ("Ferrow Lathe-17", "Ferrow Plane-3", "Ostler Tarn Mini"))


@pytest.mark.parametrize("typed", ["2000-0142", "20000142", "2000 0142", " 2000-0142 "])
def test_a_code_is_the_same_however_it_is_typed(typed: str) -> None:
    found = known([Printed(HERE, "2000-0142", 1, ("drive.media",))], HERE, typed)
    assert found is not None
    assert (found.level, found.tickets, found.settled, found.turned_out) == ("model", 1, 1, (("drive.media", 1),))


LEVELS = {
    "model": (
        [Printed(MAKER, "E7", 1, ("board.memory",)), Printed(HERE, "E7", 2, ("drive.media",))],
        ("model", 1, 1, (("drive.media", 1),)),
    ),
    "series": (
        [Printed(SERIES, "E7", 1, ("drive.worn",)), Printed(MAKER, "E7", 2, ("board.memory",))],
        ("series", 1, 1, (("drive.worn", 1),)),
    ),
    "maker": ([Printed(MAKER, "e7", 1, ("board.memory",))], ("maker", 1, 1, (("board.memory", 1),))),
    "another-maker-says-something-else": ([Printed(OTHER, "E7", 1, ("drive.dead",))], None),
    "nobody-has-said-yet": ([Printed(HERE, "E7", 1, None)], ("model", 1, 0, ())),
    "nothing-was-wrong": (
        [Printed(HERE, "E7", 1, ()), Printed(HERE, "E7", 2, ("drive.media",))],
        ("model", 2, 2, (("drive.media", 1),)),
    ),
    "a-ticket-counts-once": (
        [Printed(HERE, "E7", 1, ("drive.media", "link.loose")), Printed(HERE, "E-7", 1, ("drive.media", "link.loose"))],
        ("model", 1, 1, (("drive.media", 1), ("link.loose", 1))),
    ),
}


@pytest.mark.parametrize(("printed", "expected"), LEVELS.values(), ids=LEVELS)
def test_the_nearest_level_that_has_seen_it_speaks(printed: list[Printed], expected: tuple[object, ...] | None) -> None:
    found = known(printed, HERE, "E7")
    assert (found and (found.level, found.tickets, found.settled, found.turned_out)) == expected


def test_nothing_typed_is_no_code() -> None:
    assert known([Printed(HERE, "--", 1, ())], HERE, " - ") is None
    assert plain("a1-b2 c3") == "A1B2C3"


def test_the_codes_of_a_maker_are_offered_the_most_frequent_first() -> None:
    printed = [
        Printed(HERE, "E7", 1, None),
        Printed(MAKER, "F-2", 2, None),
        Printed(SERIES, "f2", 3, None),
        Printed(OTHER, "X", 4, None),
    ]
    assert seen_of(printed, HERE) == ["F-2", "E7"]
