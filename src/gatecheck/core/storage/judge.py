"""A drive's identity and health pages -> findings, and the weights they give to the outcomes of the check
`health-pages`.

Findings keep apart what is physical, connection, wear, age and heat. Each rests on a byte, so that a claim can be
unfolded. Limits and weights stand in knowledge/findings.toml, sentences in words/LANGUAGE/findings.toml."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from gatecheck.core.findings import AGE, CONNECTION, FAILING, HEAT, NOTE, PHYSICAL, READING, SIGN, WEAR, Finding
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.storage.pages import DrivePages
from gatecheck.core.storage.read import AtaIdentity, NvmeHealth, SmartData, SmartReading, SmartStatus, SmartThresholds

_CRC_ERRORS = 199
_LINK = ("crc-errors", "crc-errors-logged", "kernel-link")


def judge_hidden() -> list[Finding]:
    """What to say of a drive behind a bridge that passes no pages."""
    return [Finding("bridge-hides-pages", READING, NOTE, "identify")]


def judge_silent(bus: str, level: str) -> list[Finding]:
    """What to say of a drive of which no page tells its health: nothing is known, and nothing is suspected. `level`: of
    a RAID volume."""
    if bus == "raid":
        return [Finding("raid-volume", READING, NOTE, "block-device", values={"level": level})]
    return [Finding("no-pages", READING, NOTE, "identify")]


def judge_identity(ata: AtaIdentity, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """IDENTIFY DEVICE: a drive without a capacity, or behind a password."""
    if ata.capacity == 0:
        yield Finding("zero-capacity", PHYSICAL, FAILING, "identify", 120)
    if ata.smart_supported and not ata.smart_enabled:
        yield Finding("smart-off", READING, NOTE, "identify", 170)
    if "locked" in ata.security:
        yield Finding("drive-locked", READING, SIGN, "identify", 256)


def judge_status(status: SmartStatus, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """SMART RETURN STATUS: the drive's own prediction, where it gave one."""
    if status.exceeded:
        yield Finding("threshold-exceeded", PHYSICAL, FAILING, kind)
    elif status.exceeded is False:
        yield Finding("threshold-not-exceeded", READING, NOTE, kind)


def judge_thresholds(thresholds: SmartThresholds, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """SMART thresholds: only whether the page arrived whole, and only beside the data it is for."""
    if pages.smart and not thresholds.checksum.ok:
        yield Finding(
            "checksum-wrong",
            READING,
            SIGN,
            kind,
            511,
            {"off": thresholds.checksum.total},
            words="checksum-wrong-thresholds",
        )


def judge_smart(smart: SmartData, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """SMART data: every attribute against the maker's limit and ours, and the last self-test."""
    if not smart.checksum.ok:
        yield Finding("checksum-wrong", READING, SIGN, kind, 511, {"off": smart.checksum.total})
    for reading in smart.readings:
        yield from _reading(reading, kind, rules)
    if smart.self_test.startswith(("failed", "fatal")):
        yield Finding(
            "self-test-failed",
            PHYSICAL,
            FAILING,
            kind,
            363,
            {"result": smart.self_test},
            words="self-test-failed-status",
        )


def _reading(reading: SmartReading, page: str, rules: Findings) -> Iterable[Finding]:
    limits = rules.limits
    named = {"name": reading.name, "number": reading.id, "value": reading.value}
    if reading.below_now:
        kind = PHYSICAL if reading.prefailure else (reading.kind or AGE)
        values = {**named, "now": reading.now, "limit": reading.threshold}
        words = "below-threshold" if reading.prefailure else "below-threshold-used-up"
        yield Finding("below-threshold", kind, FAILING if reading.prefailure else SIGN, page, reading.at, values, words)
    elif reading.below_ever:
        yield Finding(
            "was-below-threshold",
            reading.kind or AGE,
            SIGN,
            page,
            reading.at,
            {**named, "worst": reading.worst, "limit": reading.threshold},
        )
    if reading.value is None:
        return
    limit = rules.counts.get(reading.id)
    if limit and reading.value >= limit.sign:
        severity = FAILING if limit.failing is not None and reading.value >= limit.failing else SIGN
        yield Finding(limit.finding, limit.kind, severity, page, reading.at, named)
    if reading.id == _CRC_ERRORS and reading.value:
        yield Finding(
            "crc-errors", CONNECTION, SIGN if reading.value >= limits["few_crc"] else NOTE, page, reading.at, named
        )
    if reading.kind == AGE and reading.value >= limits["old_hours"]:
        yield Finding("old", AGE, NOTE, page, reading.at, {"hours": reading.value})
    if reading.kind == HEAT and reading.value >= limits["hot_disk"]:
        yield Finding("hot", HEAT, SIGN, page, reading.at, named)
    if reading.kind == WEAR and reading.value <= limits["worn_below"]:
        yield Finding("worn", WEAR, FAILING, page, reading.at, {**named, "unit": "%"})


def judge_nvme(health: NvmeHealth, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """NVMe health log: the controller's own warnings, spare, wear, media errors, heat."""
    limits = rules.limits
    for warning in health.warnings:
        what = WEAR if warning.startswith("spare") else HEAT if warning.startswith("temperature") else PHYSICAL
        words = "critical-warning-heat" if what == HEAT else ""
        yield Finding("critical-warning", what, SIGN if what == HEAT else FAILING, kind, 0, {"warning": warning}, words)
    if health.spare < health.spare_threshold:
        yield Finding("spare-used", WEAR, FAILING, kind, 3, {"spare": health.spare, "limit": health.spare_threshold})
    if health.used >= limits["nvme_worn"]:
        yield Finding("worn", WEAR, FAILING, kind, 5, {"used": health.used}, words="worn-nvme")
    elif health.used >= limits["nvme_wearing"]:
        yield Finding("wearing", WEAR, SIGN, kind, 5, {"used": health.used})
    if health.media_errors:
        severity = FAILING if health.media_errors >= limits["nvme_media_failing"] else SIGN
        yield Finding("media-errors", PHYSICAL, severity, kind, 160, {"count": health.media_errors})
    if health.temperature >= limits["hot_flash"]:
        yield Finding("hot", HEAT, SIGN, kind, 1, {"value": health.temperature}, words="hot-nvme")


def health_weights(pages: DrivePages, findings: Sequence[Finding], rules: Findings) -> dict[str, float] | None:
    """Weights over the outcomes of `health-pages`, summing to one; None where nothing about health was read."""
    told = rules.weights["health-pages"]
    if pages.hidden:
        return dict(told["unreadable"])
    tells_life = pages.kernel is not None and pages.kernel.life is not None
    if (
        not pages.smart
        and not pages.nvme
        and not pages.scsi_health
        and not tells_life
        and (pages.status is None or pages.status.exceeded is None)
    ):
        return dict(told["unreadable"]) if pages.unreadable else None
    weights = dict(told[_situation(findings)])
    if any(f.id == "checksum-wrong" for f in findings):
        outcomes = ("clean", "early-signs", "failing", "link-errors", "worn-out")
        kept, share = 1.0 - rules.limits["damaged_page_share"], rules.limits["damaged_page_share"] / len(outcomes)
        weights = {o: kept * weights.get(o, 0.0) + share for o in outcomes}
    return weights


def read_weights(pages: DrivePages, findings: Sequence[Finding], rules: Findings) -> dict[str, float]:
    """Weights over the outcomes of `health-pages` where sectors of the medium could not be read: that is told by the
    findings, also where the drive passes no page about its health."""
    told = health_weights(pages, findings, rules) if not pages.hidden else None
    return dict(rules.weights["health-pages"][_situation(findings)]) if told is None or "unreadable" in told else told


def _situation(findings: Sequence[Finding]) -> str:
    failing = [f for f in findings if f.severity == FAILING]
    signs = [f for f in findings if f.severity == SIGN and f.kind in (PHYSICAL, WEAR, AGE)]
    links = [f for f in findings if f.id in _LINK and f.severity == SIGN]
    if any(f.kind == WEAR for f in failing) and not any(f.kind == PHYSICAL for f in failing):
        return "worn-out"
    if failing:
        return "failing-more" if len(failing) > 1 else "failing-one"
    if links:
        return "link-and-signs" if signs else "link-only"
    return "signs" if signs else "clean"


def verdict_words(weights: Mapping[str, float]) -> str:
    """Key of the sentence that a technician reads at a glance: the likeliest outcome's."""
    return f"verdict.{max(weights, key=lambda outcome: weights[outcome])}"
