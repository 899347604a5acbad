"""Base of everything that goes over the wire."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field


class Wire(BaseModel):
    """Base of all answers."""

    model_config = ConfigDict(extra="ignore")


class ByIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    by: str = Field(min_length=1, max_length=20)


class Problem(Wire):
    """RFC 9457."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
