"""The decoded pages of one drive, by kind, with typed access; pages that say the same thing stand richest first."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import TypeVar

from gatecheck.core.storage.logs import ErrorLog, SelfTestLog, Statistics
from gatecheck.core.storage.read import (
    AtaIdentity,
    NvmeController,
    NvmeHealth,
    NvmeNamespace,
    SmartData,
    SmartStatus,
    SmartThresholds,
)  # fmt: skip

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class DrivePages:
    """What could be decoded of one drive. `decoded`: kind of page -> value, richest of a topic first; `hidden`: the bridge or
    controller passes no drive pages; `unreadable`: pages about identity or health that could not be read."""

    decoded: Mapping[str, object] = field(default_factory=dict)
    hidden: bool = False
    unreadable: int = 0

    def first(self, cls: type[T]) -> tuple[str, T] | None:
        """The richest page of this type with its kind."""
        return next(((kind, value) for kind, value in self.decoded.items() if isinstance(value, cls)), None)

    def _one(self, cls: type[T]) -> T | None:
        found = self.first(cls)
        return found[1] if found else None

    @property
    def ata(self) -> AtaIdentity | None:
        return self._one(AtaIdentity)

    @property
    def smart(self) -> SmartData | None:
        return self._one(SmartData)

    @property
    def thresholds(self) -> SmartThresholds | None:
        return self._one(SmartThresholds)

    @property
    def status(self) -> SmartStatus | None:
        return self._one(SmartStatus)

    @property
    def controller(self) -> NvmeController | None:
        return self._one(NvmeController)

    @property
    def namespace(self) -> NvmeNamespace | None:
        return self._one(NvmeNamespace)

    @property
    def nvme(self) -> NvmeHealth | None:
        return self._one(NvmeHealth)

    @property
    def errors(self) -> tuple[str, ErrorLog] | None:
        return self.first(ErrorLog)

    @property
    def tests(self) -> tuple[str, SelfTestLog] | None:
        return self.first(SelfTestLog)

    @property
    def statistics(self) -> Statistics | None:
        return self._one(Statistics)

    @property
    def is_nvme(self) -> bool:
        return self.controller is not None or self.nvme is not None

    @property
    def hours(self) -> int | None:
        """Power-on hours now, where a page tells them."""
        hours = self.nvme.power_on_hours if self.nvme else self.smart.power_on_hours if self.smart else None
        return self.statistics.get("power-on time") if hours is None and self.statistics else hours

    def identity(self, bus: str) -> dict[str, object] | None:
        """Who the drive is, in one shape whatever it speaks."""
        if self.ata:
            return {**asdict(self.ata), "capacity": self.ata.capacity, "bus": bus}
        if self.controller:
            capacity = self.controller.capacity or (self.namespace.capacity if self.namespace else 0)
            return {**asdict(self.controller), "capacity": capacity, "rotation": 0, "bus": bus}
        return None
