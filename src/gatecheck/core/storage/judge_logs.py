"""What a drive's logs mean: findings, soft evidence for the checks that ask for them, and events on its power-on time."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.findings import Finding
from gatecheck.core.storage.logs import OTHER_FAILURE, PASSED, READ_FAILURE, ErrorLog, SelfTest, SelfTestLog, Statistics

PHYSICAL, CONNECTION, WEAR, HEAT, READING = "physical", "connection", "wear", "heat", "reading"
NOTE, SIGN, FAILING = "note", "sign", "failing"

RECENT_HOURS = 200
"""an error or a test within so many power-on hours is about the drive as it is now: a month of working days"""
FRESH_TEST_HOURS = 24
_WRAP = 1 << 16
_READ_LATER = 3
"""hours that may have passed between reading the drive's hours and its log"""
_MANY_MEDIA = 10


@dataclass(frozen=True, slots=True)
class Logs:
    """The logs of one drive, by kind of page; `hours`: its power-on time now, where another page told it."""

    errors: Mapping[str, ErrorLog]
    tests: Mapping[str, SelfTestLog]
    statistics: Statistics | None
    hours: int | None
    is_nvme: bool = False

    @property
    def best_errors(self) -> tuple[str, ErrorLog] | None:
        """The log that holds more: the extended one where there is one."""
        return next(((k, self.errors[k]) for k in ("ata-errors-ext", "ata-errors", "nvme-errors") if k in self.errors), None)

    @property
    def best_tests(self) -> tuple[str, SelfTestLog] | None:
        order = ("ata-self-tests-ext", "ata-self-tests", "nvme-self-tests")
        return next(((k, self.tests[k]) for k in order if k in self.tests), None)


@dataclass(frozen=True, slots=True)
class Event:
    """Something on the drive's time line. `hours`: power-on hours then, None where the log does not say; `ago`: hours before now."""

    kind: str
    hours: int | None
    ago: int | None
    text: str
    lba: int | None
    severity: str
    page: str
    at: int


def judge_logs(logs: Logs, known: Sequence[Finding]) -> list[Finding]:
    """Findings from the logs, leaving out what `known` (the other pages' findings) has said already."""
    said = {f.id for f in known}
    found = [*_errors(logs), *_tests(logs), *(_statistics(logs.statistics) if logs.statistics else ())]
    return [f for f in found if f.id not in said]


def _ago(logs: Logs, hours: int | None) -> int | None:
    """Power-on hours since then; None where an entry lies ahead of the drive's own hours. ATA keeps 16 bits of them."""
    if hours is None or logs.hours is None:
        return None
    if logs.is_nvme or logs.hours < _WRAP:
        return max(0, logs.hours - hours) if hours <= logs.hours + _READ_LATER else None
    return (logs.hours - hours) % _WRAP


def _errors(logs: Logs) -> Iterable[Finding]:
    best = logs.best_errors
    if best is None:
        return
    page, log = best
    media = [e for e in log.errors if e.is_media]
    link = [e for e in log.errors if e.is_link]
    if log.checksum and not log.checksum.ok:
        yield Finding("log-checksum-wrong", READING, NOTE, f"The error log's checksum is off by {log.checksum.total}", "Read it again before it is trusted", page, 511)
    if media:
        newest = media[0]
        ago = _ago(logs, newest.hours)
        recent = ago is None or ago <= RECENT_HOURS
        when = "" if ago is None else f", {ago} h of running ago"
        severity = FAILING if recent and len(media) >= _MANY_MEDIA else SIGN if recent else NOTE
        yield Finding(
            "media-errors-logged", PHYSICAL, severity, f"Unreadable data in the error log: {len(media)} of the newest {len(log.errors)}, last at LBA {newest.lba}{when}",
            "The drive could not repair these by itself" if recent else "Old ones: they may have been repaired since", page, newest.at,
        )  # fmt: skip
    if link:
        ago = _ago(logs, link[0].hours)
        severity = SIGN if ago is None or ago <= RECENT_HOURS else NOTE
        yield Finding(
            "crc-errors-logged", CONNECTION, severity, f"Transfers lost bits {len(link)} times among the newest {len(log.errors)} errors",
            "Cable or contacts rather than the drive", page, link[0].at,
        )  # fmt: skip


def _tests(logs: Logs) -> Iterable[Finding]:
    best = logs.best_tests
    if best is None:
        return
    page, log = best
    if log.running is not None:
        yield Finding("self-test-running", READING, NOTE, f"A self-test is under way: {log.running} %", "Read the log again when it is through", page)
    done = [t for t in log.tests if t.outcome in (PASSED, READ_FAILURE, OTHER_FAILURE)]
    failed = [t for t in done if t.outcome != PASSED]
    if not failed:
        return
    last, newest = done[0], failed[0]
    ago = _ago(logs, newest.hours)
    where = "" if newest.lba is None else f" at LBA {newest.lba}"
    when = "" if ago is None else f", {ago} h of running ago"
    if last.outcome == PASSED:
        yield Finding(
            "self-test-failed-once", PHYSICAL, SIGN, f"A {newest.kind} self-test {newest.result}{where}{when}; a later {last.kind} one passed",
            "Passing later does not make it whole: a rewrite may have hidden the place", page, newest.at,
        )  # fmt: skip
    else:
        yield Finding(
            "self-test-failed", PHYSICAL, FAILING, f"The last {newest.kind} self-test {newest.result}{where}{when}",
            "The drive failed its own test: replace it", page, newest.at,
        )  # fmt: skip


def _statistics(statistics: Statistics) -> Iterable[Finding]:
    page = "device-statistics"
    # name -> (finding, kind, counts from which it is a sign / failing, what it means)
    limits: dict[str, tuple[str, str, int, int, str]] = {
        "reallocated sectors": ("reallocated", PHYSICAL, 1, 50, "The drive has replaced bad places"),
        "reallocation candidates": ("pending", PHYSICAL, 1, 8, "Places that could not be read and wait for a rewrite"),
        "pending errors": ("pending", PHYSICAL, 1, 8, "Places that could not be read and wait for a rewrite"),
        "mechanical start failures": ("spin-retries", PHYSICAL, 1, 5, "The motor needed several tries: mechanical"),
        "reported uncorrectable errors": ("reported-uncorrectable", PHYSICAL, 1, 10, "Errors that the drive could not repair reached the machine"),
        "interface CRC errors": ("crc-errors", CONNECTION, 3, 1 << 62, "Bits were lost on the way: cable or contacts rather than the drive"),
        "rated life used": ("worn", WEAR, 80, 100, "The flash is nearly used up"),
        "time above the limit": ("overheated", HEAT, 1, 1 << 62, "It ran hotter than its maker allows: look at the airflow"),
    }
    for item in statistics.values:
        limit = limits.get(item.name)
        if item.alarmed:
            yield Finding("statistic-alarm", PHYSICAL, SIGN, f"The drive raises an alarm on {item.name}: {item.value} {item.unit}".rstrip(), "Its own monitored condition is met", page, item.at)
        if limit and item.value >= limit[2]:
            name, kind, _, failing, means = limit
            yield Finding(name, kind, FAILING if item.value >= failing else SIGN, f"{item.name.capitalize()}: {item.value} {item.unit}".rstrip(), means, page, item.at)


def log_weights(logs: Logs) -> dict[str, dict[str, float]]:
    """check -> weights over its outcomes: `error-log` from the error log, the self-tests from fresh entries of theirs."""
    weights: dict[str, dict[str, float]] = {}
    best = logs.best_errors
    if best is not None:
        telling = [e for e in best[1].errors if e.is_media]
        if any(e.is_link for e in best[1].errors) and not telling:
            pass  # lost transfers are the link's: `health-pages` says so
        elif not telling:
            # entries that only say that a command was refused say nothing of the drive
            weights["error-log"] = {"empty": 0.96, "old-only": 0.03, "recent": 0.01}
        else:
            ago = _ago(logs, telling[0].hours)
            if ago is None:
                weights["error-log"] = {"empty": 0.02, "old-only": 0.38, "recent": 0.60}
            else:
                recent = 0.95 if ago <= RECENT_HOURS else 0.05
                weights["error-log"] = {"empty": 0.01, "old-only": round(0.99 - recent, 2), "recent": recent}
    tests = logs.best_tests
    for test in tests[1].tests if tests else ():
        check = _check_of(test)
        ago = _ago(logs, test.hours)
        if check and check not in weights and ago is not None and ago <= FRESH_TEST_HOURS:
            rest = {"passed": 0.01, "read-failure": 0.01, "other-failure": 0.01, "would-not-run": 0.01}
            weights[check] = {**rest, test.outcome: 0.97}
    return weights


def _check_of(test: SelfTest) -> str | None:
    if test.outcome not in (PASSED, READ_FAILURE, OTHER_FAILURE):
        return None
    return {"short": "short-test", "long": "long-test"}.get(test.kind.split(",")[0])


def events(logs: Logs) -> list[Event]:
    """Errors and self-tests in the order of the drive's power-on time, oldest first; those without a time come last."""
    found: list[Event] = []
    errors, tests = logs.best_errors, logs.best_tests
    for error in errors[1].errors if errors else ():
        severity = SIGN if error.is_media or error.is_link else NOTE
        text = f"{error.command}: {', '.join(error.causes)}"
        found.append(Event("error", error.hours, _ago(logs, error.hours), text, error.lba, severity, errors[0] if errors else "", error.at))
    for test in tests[1].tests if tests else ():
        severity = FAILING if test.outcome in (READ_FAILURE, OTHER_FAILURE) else NOTE
        found.append(Event("test", test.hours, _ago(logs, test.hours), f"{test.kind} self-test {test.result}", test.lba, severity, tests[0] if tests else "", test.at))
    return sorted(found, key=lambda e: (e.hours is None, -(e.ago or 0) if e.ago is not None else 0, e.hours or 0))


def said_of(check: str, logs: Logs) -> str:
    """One sentence on what the logs say to this check."""
    if check == "error-log":
        telling = [e for e in events(logs) if e.kind == "error" and e.severity != NOTE]
        return telling[-1].text if telling else "No error in the log that tells of the drive or its link"
    tests = [e for e in events(logs) if e.kind == "test" and e.text.startswith(check.removesuffix("-test"))]
    return f"{tests[-1].text}, {tests[-1].ago} h of running ago" if tests else ""
