"""Base of everything that goes over the wire."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class Wire(BaseModel):
    """Base of all answers."""

    model_config = ConfigDict(extra="ignore")
