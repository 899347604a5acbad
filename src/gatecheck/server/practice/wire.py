"""The practice bench on the wire."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field

from gatecheck.server.wire import By, Wire


class PatientOut(Wire):
    id: str
    title: str
    machine: str
    words: str
    level: str


class PracticeIn(BaseModel):
    """A practice machine; with a bay where it is to be taken in there."""

    model_config = ConfigDict(extra="forbid")
    machine: str = Field(max_length=40)
    bay: int | None = Field(default=None, ge=1, le=99)
    by: By
