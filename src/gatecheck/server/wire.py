"""Base of everything that goes over the wire."""

from __future__ import annotations

from contextvars import ContextVar
from typing import Annotated

from fastapi import Path
from pydantic import AfterValidator, BaseModel, ConfigDict, Field

LARGEST_ID = (1 << 63) - 1
"""what SQLite can count to"""
TicketId = Annotated[int, Path(ge=1, le=LARGEST_ID)]
WHO: ContextVar[str | None] = ContextVar("who", default=None)
"""initials of the technician whose device sends this request, where the device is paired: then they are not a matter of
what is sent"""
By = Annotated[str, Field(min_length=1, max_length=20), AfterValidator(lambda said: WHO.get() or said)]
"""initials of who did it"""


class Wire(BaseModel):
    """Base of all answers."""

    model_config = ConfigDict(extra="ignore")


class ByIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    by: By


class Problem(Wire):
    """RFC 9457. `needs`: `sign-in`, or the right that somebody else has to lend."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    needs: str | None = None
