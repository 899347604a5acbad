"""What a drive's logs mean: findings, soft evidence for the checks that ask for them, and events on its power-on
time."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from gatecheck.core.findings import CONNECTION, FAILING, NOTE, PHYSICAL, READING, SIGN, Finding
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.storage.logs import (
    OTHER_FAILURE,
    PASSED,
    READ_FAILURE,
    ErrorLog,
    SelfTestEntry,
    SelfTestLog,
    Statistics,
)
from gatecheck.core.storage.pages import DrivePages
from gatecheck.core.words.said import Said, say

_WRAP = 1 << 16
_READ_LATER = 3
"""hours that may have passed between reading the drive's hours and its log"""

Weights = dict[str, dict[str, float]]


@dataclass(frozen=True, slots=True)
class LogEvent:
    """Something on the drive's time line. `hours`: power-on hours then, None where the log does not say; `ago`: hours
    before now."""

    kind: str
    hours: int | None
    ago: int | None
    text: Said
    lba: int | None
    severity: str
    page: str
    at: int
    of: str = field(default="")
    """of a test: which one"""


def _ago(pages: DrivePages, hours: int | None) -> int | None:
    """Power-on hours since then; None where an entry lies ahead of the drive's own hours. ATA keeps 16 bits of them."""
    now = pages.hours
    if hours is None or now is None:
        return None
    if pages.is_nvme or now < _WRAP:
        return max(0, now - hours) if hours <= now + _READ_LATER else None
    return (now - hours) % _WRAP


def judge_errors(log: ErrorLog, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """An error log: unreadable data is the drive's, lost transfers are the link's."""
    media = [e for e in log.errors if e.is_media]
    link = [e for e in log.errors if e.is_link]
    recent_hours = rules.limits["recent_hours"]
    if log.checksum and not log.checksum.ok:
        yield Finding("log-checksum-wrong", READING, NOTE, kind, 511, {"off": log.checksum.total})
    if media:
        newest = media[0]
        ago = _ago(pages, newest.hours)
        recent = ago is None or ago <= recent_hours
        severity = FAILING if recent and len(media) >= rules.limits["many_media_logged"] else SIGN if recent else NOTE
        values = {"count": len(media), "of": len(log.errors), "lba": newest.lba, "when": _when(ago)}
        yield Finding(
            "media-errors-logged",
            PHYSICAL,
            severity,
            kind,
            newest.at,
            values,
            "" if recent else "media-errors-logged-old",
        )
    if link:
        ago = _ago(pages, link[0].hours)
        severity = SIGN if ago is None or ago <= recent_hours else NOTE
        yield Finding(
            "crc-errors-logged", CONNECTION, severity, kind, link[0].at, {"count": len(link), "of": len(log.errors)}
        )


def _when(ago: int | None) -> Said | str:
    return "" if ago is None else say("when.hours-ago", hours=ago)


def judge_tests(log: SelfTestLog, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """A self-test log: one that runs, the last one that failed, one that failed and passed later."""
    if log.running is not None:
        yield Finding("self-test-running", READING, NOTE, kind, None, {"done": log.running})
    done = [t for t in log.tests if t.outcome in (PASSED, READ_FAILURE, OTHER_FAILURE)]
    failed = [t for t in done if t.outcome != PASSED]
    if not failed:
        return
    last, newest = done[0], failed[0]
    where = "" if newest.lba is None else say("where.at-lba", lba=newest.lba)
    values = {
        "test": newest.kind,
        "result": newest.result,
        "where": where,
        "when": _when(_ago(pages, newest.hours)),
        "later": last.kind,
    }
    if last.outcome == PASSED:
        yield Finding("self-test-failed-once", PHYSICAL, SIGN, kind, newest.at, values)
    else:
        yield Finding("self-test-failed", PHYSICAL, FAILING, kind, newest.at, values)


def judge_statistics(statistics: Statistics, kind: str, pages: DrivePages, rules: Findings) -> Iterable[Finding]:
    """Device statistics: the drive's own alarms, and counts that have passed a limit."""
    for item in statistics.values:
        values = {"name": item.name, "value": item.value, "unit": item.unit}
        if item.alarmed:
            yield Finding("statistic-alarm", PHYSICAL, SIGN, kind, item.at, values)
        limit = rules.statistics.get(item.name)
        if limit and item.value >= limit.sign:
            severity = FAILING if limit.failing is not None and item.value >= limit.failing else SIGN
            yield Finding(limit.finding, limit.kind, severity, kind, item.at, values)


def weigh_errors(log: ErrorLog, pages: DrivePages, rules: Findings) -> Weights:
    """What an error log says to the check `error-log`; nothing where all it holds are lost transfers: those are the
    link's."""
    told = rules.weights["error-log"]
    telling = [e for e in log.errors if e.is_media]
    if any(e.is_link for e in log.errors) and not telling:
        return {}
    if not telling:  # entries that only say that a command was refused say nothing of the drive
        return {"error-log": dict(told["empty"])}
    ago = _ago(pages, telling[0].hours)
    situation = "undated" if ago is None else "recent" if ago <= rules.limits["recent_hours"] else "old"
    return {"error-log": dict(told[situation])}


def weigh_tests(log: SelfTestLog, pages: DrivePages, rules: Findings) -> Weights:
    """What fresh self-tests say to `short-test` and `long-test`."""
    shares, weights = rules.weights["self-test"], Weights()
    for test in log.tests:
        check, ago = _check_of(test), _ago(pages, test.hours)
        if check and check not in weights and ago is not None and ago <= rules.limits["fresh_test_hours"]:
            rest = dict.fromkeys((PASSED, READ_FAILURE, OTHER_FAILURE, "would-not-run"), shares["other"]["share"])
            weights[check] = {**rest, test.outcome: shares["outcome"]["share"]}
    return weights


def _check_of(test: SelfTestEntry) -> str | None:
    if test.outcome not in (PASSED, READ_FAILURE, OTHER_FAILURE):
        return None
    return {"short": "short-test", "long": "long-test"}.get(test.kind.split(",")[0])


def events(pages: DrivePages) -> list[LogEvent]:
    """Errors and self-tests in the order of the drive's power-on time, oldest first; those without a time come last."""
    found: list[LogEvent] = []
    errors, tests = pages.errors, pages.tests
    for error in errors[1].errors if errors else ():
        severity = SIGN if error.is_media or error.is_link else NOTE
        text = say("event.error", command=error.command, causes=list(error.causes))
        found.append(
            LogEvent(
                "error",
                error.hours,
                _ago(pages, error.hours),
                text,
                error.lba,
                severity,
                errors[0] if errors else "",
                error.at,
            )
        )
    for test in tests[1].tests if tests else ():
        severity = FAILING if test.outcome in (READ_FAILURE, OTHER_FAILURE) else NOTE
        text = say("event.test", test=test.kind, result=test.result)
        found.append(
            LogEvent(
                "test",
                test.hours,
                _ago(pages, test.hours),
                text,
                test.lba,
                severity,
                tests[0] if tests else "",
                test.at,
                test.kind,
            )
        )
    return sorted(found, key=lambda e: (e.hours is None, -(e.ago or 0) if e.ago is not None else 0, e.hours or 0))


def said_of(check: str, pages: DrivePages) -> Said:
    """One sentence on what the logs say to this check."""
    if check == "error-log":
        telling = [e for e in events(pages) if e.kind == "error" and e.severity != NOTE]
        return telling[-1].text if telling else say("log.nothing-telling")
    tests = [e for e in events(pages) if e.kind == "test" and e.of.startswith(check.removesuffix("-test"))]
    return say("log.test-then", test=tests[-1].text, hours=tests[-1].ago) if tests else say("log.nothing-telling")


def merged(parts: Iterable[Mapping[str, dict[str, float]]]) -> Weights:
    """Weights of several pages of one drive; the first that speaks to a check is heard."""
    weights = Weights()
    for part in parts:
        for check, own in part.items():
            weights.setdefault(check, own)
    return weights
