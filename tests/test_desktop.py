"""A folder of saved files on the screen of the server's own computer."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from gatecheck.adapters.desktop import has_desktop, open_folder


@pytest.mark.parametrize(("display", "opener", "has"), [(":0", True, True), ("", True, False), (":0", False, False)])
def test_a_folder_opens_only_where_there_is_a_screen(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, display: str, opener: bool, has: bool
) -> None:
    monkeypatch.setenv("PATH", str(tmp_path))
    monkeypatch.setenv("DISPLAY", display)
    monkeypatch.delenv("WAYLAND_DISPLAY", raising=False)
    if opener:
        (tmp_path / "xdg-open").write_text("#!/bin/sh\n")
        (tmp_path / "xdg-open").chmod(0o700)
    assert has_desktop() is has


def test_the_folder_is_handed_over_whole(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    told, folder = tmp_path / "told", tmp_path / "Anna's files; $(x) -n"
    os.mkfifo(told)
    (tmp_path / "xdg-open").write_text(f'#!/bin/sh\nprintf %s "$1" > {told}\n')
    (tmp_path / "xdg-open").chmod(0o700)
    monkeypatch.setenv("PATH", str(tmp_path))
    open_folder(folder)
    assert told.read_text() == str(folder)
