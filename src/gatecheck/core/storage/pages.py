"""The decoded pages of one drive, by kind, with typed access; pages that say the same thing stand richest first."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import TypeVar

from gatecheck.core.storage.kernel import USB, KernelFacts
from gatecheck.core.storage.logs import ErrorLog, SelfTestLog, Statistics
from gatecheck.core.storage.read import (
    AtaIdentity,
    NvmeController,
    NvmeHealth,
    NvmeNamespace,
    NvmeNamespaces,
    SmartData,
    SmartStatus,
    SmartThresholds,
)
from gatecheck.core.storage.scsi import (
    ScsiCapacity,
    ScsiCharacteristics,
    ScsiEndurance,
    ScsiErrors,
    ScsiExceptions,
    ScsiInquiry,
    ScsiNames,
    ScsiScan,
    ScsiSerial,
    ScsiTemperature,
)

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class DrivePages:
    """What could be decoded of one drive. `decoded`: kind of page -> value, richest of a topic first; `hidden`: the
    bridge or controller passes no drive pages; `unreadable`: pages about identity or health that could not be read;
    `namespaces`: (number, None where not told) and page of each that was identified; `kernel`: what the kernel tells of
    it, None where the capture does not."""

    decoded: Mapping[str, object] = field(default_factory=dict)
    hidden: bool = False
    unreadable: int = 0
    namespaces: tuple[tuple[int | None, NvmeNamespace], ...] = ()
    kernel: KernelFacts | None = None

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
    def scsi_rotation(self) -> int | None:
        """rpm of a SCSI drive; 0 for flash; None where it does not say."""
        told = self._one(ScsiCharacteristics)
        return told.rotation if told else None

    @property
    def scsi_health(self) -> bool:
        """A SCSI page that tells of its health was read."""
        return any(self._one(kind) for kind in (ScsiExceptions, ScsiScan, ScsiErrors, ScsiEndurance))

    @property
    def is_nvme(self) -> bool:
        return self.controller is not None or self.nvme is not None

    @property
    def hours(self) -> int | None:
        """Power-on hours now, where a page tells them."""
        scan = self._one(ScsiScan)
        hours = (
            self.nvme.power_on_hours
            if self.nvme
            else self.smart.power_on_hours
            if self.smart
            else scan.minutes // 60
            if scan
            else None
        )
        return self.statistics.get("power-on time") if hours is None and self.statistics else hours

    def identity(self, bus: str) -> dict[str, object] | None:
        """Who the drive is, in one shape whatever it speaks. `told_by`: drive, or kernel where the drive itself was not
        asked."""
        if self.ata:
            return {**asdict(self.ata), "capacity": self.ata.capacity, "bus": bus, "told_by": "drive"}
        if self.controller:
            of_all = sum(own.capacity for _, own in self.namespaces) if self.namespaces else None
            capacity = self.controller.capacity or of_all
            return {
                **asdict(self.controller),
                "capacity": capacity,
                "namespaces": self.namespace_count,
                "rotation": 0,
                "bus": bus,
                "told_by": "drive",
            }
        return self._scsi_identity(bus) or self._kernel_identity(bus)

    @property
    def namespace_count(self) -> int | None:
        """How many namespaces are active; None where nobody said."""
        listed = self._one(NvmeNamespaces)
        return len(listed.numbers) if listed else len(self.namespaces) or None

    def _scsi_identity(self, bus: str) -> dict[str, object] | None:
        inquiry = self._one(ScsiInquiry)
        if inquiry is None:
            return None
        capacity, names, form, serial = (
            self._one(ScsiCapacity),
            self._one(ScsiNames),
            self._one(ScsiCharacteristics),
            self._one(ScsiSerial),
        )
        known = self.kernel
        return {
            "vendor": inquiry.vendor,
            "model": inquiry.model,
            "firmware": inquiry.revision,
            "serial": serial.serial if serial else known.serial if known else "",
            "wwn": names.wwn if names else None,
            "transport": names.transport if names else None,
            "capacity": capacity.capacity if capacity else known.capacity if known else None,
            "sectors": capacity.blocks if capacity else None,
            "logical_sector": capacity.block if capacity else known.sector if known else None,
            "physical_sector": capacity.physical if capacity else None,
            "rotation": form.rotation if form else None,
            "form_factor": form.form_factor if form else None,
            "bus": bus,
            "told_by": "drive",
        }

    def _kernel_identity(self, bus: str) -> dict[str, object] | None:
        known = self.kernel
        if known is None or bus == USB or not (known.model or known.serial or known.capacity):
            return None  # behind USB the kernel names the bridge, not the drive
        is_flash = bus in ("emmc", "sd", "ufs")
        return {
            "model": known.model,
            "serial": known.serial,
            "firmware": known.firmware,
            "capacity": known.capacity,
            "logical_sector": known.sector,
            "rotation": 0 if is_flash else None,
            "bus": bus,
            "told_by": "kernel",
        }

    def scsi_readings(self) -> list[tuple[str, int, str, str]]:
        """(what, value, unit, kind of page) of a SCSI drive."""
        heat, scan, life = self._one(ScsiTemperature), self._one(ScsiScan), self._one(ScsiEndurance)
        rows = (
            [("temperature", heat.temperature, "degC", "scsi-log-0d")] if heat and heat.temperature is not None else []
        )
        rows += (
            [
                ("power-on time", scan.minutes // 60, "h", "scsi-log-15"),
                ("background scans", scan.scans, "", "scsi-log-15"),
            ]
            if scan
            else []
        )
        rows += [("rated life used", life.used, "%", "scsi-log-11")] if life and life.used is not None else []
        for kind, name in (
            ("scsi-log-03", "uncorrected read errors"),
            ("scsi-log-02", "uncorrected write errors"),
            ("scsi-log-05", "uncorrected verify errors"),
        ):
            own = self.decoded.get(kind)
            if isinstance(own, ScsiErrors) and "uncorrected" in own.counts:
                rows.append((name, own.counts["uncorrected"], "", kind))
        return rows
