"""What a SCSI drive's pages, and the kernel's word on flash without pages, mean: findings in the same words as for any
other drive."""

from __future__ import annotations

from collections.abc import Iterable

from gatecheck.core.findings import FAILING, HEAT, NOTE, PHYSICAL, READING, SIGN, WEAR, Finding
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.storage.kernel import FlashLife
from gatecheck.core.storage.pages import DrivePages
from gatecheck.core.storage.scsi import (
    ScsiCapacity,
    ScsiEndurance,
    ScsiErrors,
    ScsiExceptions,
    ScsiScan,
    ScsiTemperature,
)
from gatecheck.core.words.said import say

_UNCORRECTED = {
    "scsi-log-02": "uncorrected write errors",
    "scsi-log-03": "uncorrected read errors",
    "scsi-log-05": "uncorrected verify errors",
}
_TOO_HOT = 1


def judge_capacity(capacity: ScsiCapacity, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """READ CAPACITY: a drive without any."""
    if capacity.capacity == 0:
        yield Finding("zero-capacity", PHYSICAL, FAILING, kind, 0)


def judge_exceptions(told: ScsiExceptions, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """Informational exceptions: the drive's own prediction."""
    if told.predicted:
        yield Finding("threshold-exceeded", PHYSICAL, FAILING, kind, 8)
    elif told.warning:
        heat = told.qualifier == _TOO_HOT
        warning = "temperature out of range" if heat else f"warning {told.code:02X}/{told.qualifier:02X}"
        yield Finding(
            "critical-warning",
            HEAT if heat else PHYSICAL,
            SIGN,
            kind,
            8,
            {"warning": warning},
            "critical-warning-heat" if heat else "",
        )
    else:
        yield Finding("threshold-not-exceeded", READING, NOTE, kind, 8)


def judge_counters(errors: ScsiErrors, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """Error counters: those that the drive could not repair."""
    count, limit = errors.counts.get("uncorrected", 0), rules.statistics["reported uncorrectable errors"]
    if count >= limit.sign:
        severity = FAILING if limit.failing is not None and count >= limit.failing else SIGN
        yield Finding(
            limit.finding,
            limit.kind,
            severity,
            kind,
            None,
            {"name": _UNCORRECTED.get(kind, "uncorrected errors"), "value": count},
        )


def judge_scan(scan: ScsiScan, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """Background scan: places that the drive itself met and could not read."""
    found = [e for e in scan.errors if e.is_medium]
    if not found:
        return
    newest = max(found, key=lambda e: e.minutes)
    ago = max(0, scan.minutes - newest.minutes) // 60
    recent = ago <= rules.limits["recent_hours"]
    severity = FAILING if recent and len(found) >= rules.limits["many_media_logged"] else SIGN
    values = {"count": len(found), "lba": newest.lba, "when": say("when.hours-ago", hours=ago)}
    yield Finding("scan-errors", PHYSICAL, severity, kind, newest.at, values)


def judge_temperature(told: ScsiTemperature, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """Temperature, against our limit."""
    is_flash = pages.scsi_rotation == 0
    if told.temperature is not None and told.temperature >= rules.limits["hot_flash" if is_flash else "hot_disk"]:
        yield Finding("hot", HEAT, SIGN, kind, 9, {"value": told.temperature}, words="hot-nvme")


def judge_endurance(told: ScsiEndurance, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """Rated life used."""
    used = told.used or 0
    if used >= rules.limits["nvme_worn"]:
        yield Finding("worn", WEAR, FAILING, kind, 11, {"used": used}, words="worn-nvme")
    elif used >= rules.limits["nvme_wearing"]:
        yield Finding("wearing", WEAR, SIGN, kind, 11, {"used": used})


def judge_life(life: FlashLife, rules: Findings) -> Iterable[Finding]:
    """What eMMC or UFS says of its life, as the kernel hands it out."""
    page = "block-device"
    if life.used:
        low, high = life.used
        if low >= rules.limits["nvme_worn"]:
            yield Finding("worn", WEAR, FAILING, page, None, {"used": low}, words="worn-nvme")
        elif low >= rules.limits["nvme_wearing"]:
            yield Finding("wearing", WEAR, SIGN, page, None, {"used": high or low}, words="wearing-band")
    if life.reserve in ("warning", "urgent"):
        share = 80 if life.reserve == "warning" else 90
        yield Finding(
            "spare-used",
            WEAR,
            SIGN if life.reserve == "warning" else FAILING,
            page,
            None,
            {"share": share},
            words="spare-used-band",
        )
