"""Typed pages of one drive -> findings, and the weights they give to the outcomes of the check `health-pages`.

Findings keep apart what is physical, connection, wear, age and heat. Each says what it means for the call and where it
stands, so that a claim can be unfolded to its bytes.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from gatecheck.core.findings import Finding
from gatecheck.core.storage.read import (
    AtaIdentity,
    NvmeController,
    NvmeHealth,
    NvmeNamespace,
    SmartData,
    SmartReading,
    SmartStatus,
    SmartThresholds,
)  # fmt: skip

PHYSICAL, CONNECTION, WEAR, AGE, HEAT, READING = "physical", "connection", "wear", "age", "heat", "reading"
NOTE, SIGN, FAILING = "note", "sign", "failing"

OLD_HOURS = 5 * 8760
"""five years of running: spinning drives past three to five years are on borrowed time"""
HOT_DISK, HOT_FLASH = 55, 70
"""degrees Celsius from which a reading is worth saying"""


@dataclass(frozen=True, slots=True)
class DrivePages:
    """What could be decoded of one drive. `hidden`: the bridge or controller passes no drive pages."""

    ata: AtaIdentity | None = None
    smart: SmartData | None = None
    thresholds: SmartThresholds | None = None
    status: SmartStatus | None = None
    controller: NvmeController | None = None
    namespace: NvmeNamespace | None = None
    nvme: NvmeHealth | None = None
    hidden: bool = False
    unreadable_pages: int = 0


@dataclass(frozen=True, slots=True)
class _Limit:
    """From how many counts on a reading is a sign, and from how many it says the drive is failing."""

    id: str
    sign: int
    failing: int
    means: str


# Pinheiro, Weber, Barroso, FAST '07: after the first scan error a drive was about 39 times as likely to fail within 60
# days; first reallocation 14, first offline reallocation 21, first pending sector 16 times. One is a sign; what counts
# as failing by number alone is bench judgement.
_COUNTS = {
    5: _Limit("reallocated", 1, 50, "The drive has replaced bad places; after the first one failure is about 14 times as likely"),
    10: _Limit("spin-retries", 1, 5, "The motor needed several tries: mechanical"),
    184: _Limit("end-to-end", 1, 5, "Data was damaged inside the drive"),
    187: _Limit("reported-uncorrectable", 1, 10, "Errors that the drive could not repair reached the machine"),
    196: _Limit("reallocation-events", 1, 50, "The drive has replaced bad places"),
    197: _Limit("pending", 1, 8, "Places that could not be read and wait for a rewrite; about 16 times as likely to fail"),
    198: _Limit("offline-uncorrectable", 1, 8, "Places found unreadable in the drive's own scan; about 21 times as likely to fail"),
}
_FEW_CRC, _MANY_CRC = 3, 30


def judge(pages: DrivePages) -> list[Finding]:
    """All findings of one drive, the weightiest first."""
    findings: list[Finding] = []
    if pages.hidden:
        findings.append(Finding(
            "bridge-hides-pages", READING, NOTE, "This bridge passes no drive pages",
            "Nothing is known about the drive's health through it: connect the drive directly", "identify",
        ))  # fmt: skip
    if pages.status and pages.status.exceeded is not None:
        findings.append(_status(pages.status))
    if pages.smart:
        findings += _smart(pages.smart, pages.thresholds)
    if pages.nvme:
        findings += _nvme(pages.nvme)
    if pages.ata and pages.ata.capacity == 0:
        findings.append(Finding(
            "zero-capacity", PHYSICAL, FAILING, "The drive reports no capacity",
            "Its electronics answer but its own firmware never came up", "identify", 120,
        ))  # fmt: skip
    if pages.ata and "locked" in pages.ata.security:
        findings.append(Finding(
            "drive-locked", READING, SIGN, "The drive is locked by an ATA password",
            "It cannot be read without the password; that is no defect", "identify", 256,
        ))  # fmt: skip
    return ranked(findings)


def ranked(findings: Iterable[Finding]) -> list[Finding]:
    """The weightiest first."""
    rank = {FAILING: 0, SIGN: 1, NOTE: 2}
    return sorted(findings, key=lambda f: rank[f.severity])


def _status(status: SmartStatus) -> Finding:
    if status.exceeded:
        return Finding(
            "threshold-exceeded", PHYSICAL, FAILING, "The drive itself predicts its failure",
            "Copy what matters, then replace it", "smart-status",
        )  # fmt: skip
    return Finding(
        "threshold-not-exceeded", READING, NOTE, "The drive says that no threshold is exceeded",
        "Weak evidence of health: most failed drives said the same", "smart-status",
    )  # fmt: skip


def _smart(smart: SmartData, thresholds: SmartThresholds | None) -> Iterable[Finding]:
    if not smart.checksum.ok:
        yield Finding(
            "checksum-wrong", READING, SIGN, f"The SMART data page's checksum is off by {smart.checksum.total}",
            "The page may have been damaged on the way: read it again", "smart-data", 511,
        )  # fmt: skip
    if thresholds and not thresholds.checksum.ok:
        yield Finding(
            "checksum-wrong", READING, SIGN, f"The thresholds page's checksum is off by {thresholds.checksum.total}",
            "The page may have been damaged on the way: read it again", "smart-thresholds", 511,
        )  # fmt: skip
    for reading in smart.readings:
        yield from _reading(reading)
    if smart.self_test.startswith(("failed", "fatal")):
        yield Finding(
            "self-test-failed", PHYSICAL, FAILING, f"The last self-test {smart.self_test}",
            "The drive failed its own test: replace it", "smart-data", 363,
        )  # fmt: skip


def _reading(reading: SmartReading) -> Iterable[Finding]:
    if reading.below_now:
        severity = FAILING if reading.prefailure else SIGN
        kind = PHYSICAL if reading.prefailure else (reading.kind or AGE)
        yield Finding(
            "below-threshold", kind, severity, f"{reading.name} (no. {reading.id}) is at {reading.now}, its limit is {reading.threshold}",
            "The maker's own limit is passed" + (": the drive is failing" if reading.prefailure else ": it is used up"),
            "smart-data", reading.at,
        )  # fmt: skip
    elif reading.below_ever:
        yield Finding(
            "was-below-threshold", reading.kind or AGE, SIGN, f"{reading.name} (no. {reading.id}) was once at {reading.worst}, its limit is {reading.threshold}",
            "It passed the maker's limit before and came back", "smart-data", reading.at,
        )  # fmt: skip
    limit = _COUNTS.get(reading.id)
    if limit and reading.value is not None and reading.value >= limit.sign:
        severity = FAILING if reading.value >= limit.failing else SIGN
        yield Finding(limit.id, PHYSICAL, severity, f"{reading.name}: {reading.value}", limit.means, "smart-data", reading.at)
    if reading.id == 199 and reading.value:
        severity = SIGN if reading.value >= _FEW_CRC else NOTE
        yield Finding(
            "crc-errors", CONNECTION, severity, f"{reading.name}: {reading.value}",
            "Bits were lost on the way: cable or contacts rather than the drive", "smart-data", reading.at,
        )  # fmt: skip
    if reading.kind == AGE and reading.value is not None and reading.value >= OLD_HOURS:
        yield Finding(
            "old", AGE, NOTE, f"{reading.value} h of running ({reading.value / 8760:.1f} years)",
            "Past three to five years a spinning drive is on borrowed time", "smart-data", reading.at,
        )  # fmt: skip
    if reading.kind == HEAT and reading.value is not None and reading.value >= HOT_DISK:
        yield Finding(
            "hot",
            HEAT,
            SIGN,
            f"{reading.name}: {reading.value} °C",
            "Heat shortens its life: look at the airflow",
            "smart-data",
            reading.at,
        )
    if reading.kind == WEAR and reading.value is not None and reading.value <= 10:
        yield Finding(
            "worn", WEAR, FAILING, f"{reading.name}: {reading.value} %", "The flash is nearly used up", "smart-data", reading.at
        )


def _nvme(health: NvmeHealth) -> Iterable[Finding]:
    page = "nvme-health"
    for warning in health.warnings:
        kind = WEAR if warning.startswith("spare") else HEAT if warning.startswith("temperature") else PHYSICAL
        severity = SIGN if kind == HEAT else FAILING
        yield Finding(
            "critical-warning",
            kind,
            severity,
            f"The drive warns: {warning}",
            "Copy what matters, then replace it" if severity == FAILING else "Look at the cooling",
            page,
            0,
        )
    if health.spare < health.spare_threshold:
        yield Finding(
            "spare-used",
            WEAR,
            FAILING,
            f"Spare blocks: {health.spare} %, limit {health.spare_threshold} %",
            "The reserve is used up",
            page,
            3,
        )
    if health.used >= 100:
        yield Finding("worn", WEAR, FAILING, f"Rated life used: {health.used} %", "The flash is used up", page, 5)
    elif health.used >= 80:
        yield Finding("wearing", WEAR, SIGN, f"Rated life used: {health.used} %", "Plan a replacement", page, 5)
    if health.media_errors:
        severity = FAILING if health.media_errors >= 10 else SIGN
        yield Finding(
            "media-errors",
            PHYSICAL,
            severity,
            f"Unrecovered media errors: {health.media_errors}",
            "Data was lost in the flash",
            page,
            160,
        )
    if health.temperature >= HOT_FLASH:
        yield Finding(
            "hot", HEAT, SIGN, f"Temperature: {health.temperature} °C", "Heat shortens its life: look at the cooling", page, 1
        )


def health_weights(pages: DrivePages, findings: Sequence[Finding]) -> dict[str, float] | None:
    """Weights over the outcomes of `health-pages`, summing to one; None where nothing about health was read."""
    if pages.hidden:
        return {"unreadable": 1.0}
    if not pages.smart and not pages.nvme and (pages.status is None or pages.status.exceeded is None):
        return {"unreadable": 1.0} if pages.unreadable_pages else None
    weights = _by_findings(findings)
    if any(f.id == "checksum-wrong" for f in findings):
        # a page that arrived damaged says less: half of its weight goes to what it may have been
        share = 0.5 / 5
        weights = {o: 0.5 * weights.get(o, 0.0) + share for o in ("clean", "early-signs", "failing", "link-errors", "worn-out")}
    return weights


def _by_findings(findings: Sequence[Finding]) -> dict[str, float]:
    failing = [f for f in findings if f.severity == FAILING]
    signs = [f for f in findings if f.severity == SIGN and f.kind in (PHYSICAL, WEAR, AGE)]
    links = [f for f in findings if f.id in ("crc-errors", "crc-errors-logged") and f.severity == SIGN]
    if any(f.kind == WEAR for f in failing) and not any(f.kind == PHYSICAL for f in failing):
        return {"worn-out": 0.92, "failing": 0.05, "early-signs": 0.03}
    if failing:
        strong = 0.97 if len(failing) > 1 else 0.90
        return {"failing": strong, "early-signs": 1.0 - strong}
    if links and not signs:
        return {"link-errors": 0.90, "early-signs": 0.04, "clean": 0.06}
    if links:
        return {"link-errors": 0.45, "early-signs": 0.55}
    if signs:
        return {"early-signs": 0.90, "failing": 0.07, "clean": 0.03}
    return {"clean": 0.96, "early-signs": 0.04}
