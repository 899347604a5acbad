"""Phone and tablet: every main view, by touch. In a file of its own, so that two cores share what takes longest."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from playwright.sync_api import Page

from looking import wrong_views
from serving import Served


@pytest.mark.parametrize(
    "sizes",
    [["phone"], *(pytest.param([size], marks=pytest.mark.wide) for size in ("tablet upright", "tablet"))],
)
def test_every_view_by_hand(demo: Served, screen: Callable[..., Page], sizes: list[str]) -> None:
    assert wrong_views(demo, screen, sizes, axe="phone") == {}
