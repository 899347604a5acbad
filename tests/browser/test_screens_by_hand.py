"""Phone and tablet: every main view, by touch. In a file of its own, so that two cores share what takes longest."""

from __future__ import annotations

from collections.abc import Callable

from playwright.sync_api import Page

from looking import wrong_views
from serving import Served


def test_every_view_by_hand(demo: Served, screen: Callable[..., Page]) -> None:
    assert wrong_views(demo, screen, ["phone", "tablet upright", "tablet"], axe="phone") == {}
