"""Captures and words as the shipped tables have them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from gatecheck.adapters.shipped_tables import shipped_model, shipped_words
from gatecheck.core.capture.document import capture_document
from gatecheck.core.capture.read import Capture
from gatecheck.core.capture.read import read_capture as read_with
from gatecheck.core.disk.mbr import layout_of
from gatecheck.core.disk.sectors import sectors_of


def read_capture(files: Mapping[str, bytes], *, kind: str | None = None) -> Capture:
    return read_with(files, shipped_model().knowledge.findings, kind=kind)


def read_document(files: Mapping[str, bytes]) -> Any:
    """The document of a capture, as `gatecheck read` prints it."""
    return capture_document(read_capture(files), shipped_words())


def disk_layout(start: bytes) -> str | None:
    """How a disk that begins so is divided."""
    return layout_of(sectors_of(start)).kind


def said(sentence: Any) -> str:
    return shipped_words().say(sentence)
