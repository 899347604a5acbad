"""One drive of a capture: its pages, what the kernel tells of it, and what could be said about both."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.capture.facts import BlockFacts, is_a_drive
from gatecheck.core.capture.kinds import BY_ID, DRIVE, KINDS, PageKind
from gatecheck.core.capture.page import DECODED, EMPTY, REFUSED, Page
from gatecheck.core.findings import FAILING, NOTE, Finding, ranked
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.storage.judge import health_weights, judge_hidden, judge_silent, verdict_words
from gatecheck.core.storage.judge_logs import Weights, merged, said_of
from gatecheck.core.storage.judge_scsi import judge_life
from gatecheck.core.storage.kernel import NVME, RAID, UNKNOWN, USB, WITHOUT_PAGES, KernelFacts
from gatecheck.core.storage.pages import DrivePages
from gatecheck.core.storage.read import NvmeNamespace, NvmeNamespaces
from gatecheck.core.words.said import Said, say


@dataclass(frozen=True, slots=True)
class Drive:
    """One drive of a capture with everything that could be said about it. `log_weights`: what its logs say to other
    checks."""

    device: str
    bus: str
    pages: DrivePages
    findings: tuple[Finding, ...]
    weights: Mapping[str, float] | None
    log_weights: Weights
    verdict: Said

    @property
    def identity(self) -> dict[str, object] | None:
        return self.pages.identity(self.bus)

    def said_of(self, check: str) -> Said:
        """One sentence on what it says to a check of `log_weights`."""
        if check == "read-scan":
            return next(f.text for f in self.findings if f.id.startswith("surface-"))
        if check != "disk-layout":
            return said_of(check, self.pages)
        return next(f.text for f in self.findings if f.id in ("lba0-unreadable", "gpt-header-unreadable"))


def is_of(disk: str, device: str) -> bool:
    """A disk is a drive's: it has its name, or is a namespace of that controller."""
    return disk == device or bool(re.fullmatch(re.escape(device) + r"n\d+", disk))


def block_of(device: str, blocks: Mapping[str, BlockFacts]) -> BlockFacts | None:
    """nvme0 in a capture is the controller; its facts stand under its first namespace."""
    name = device.rsplit("/", 1)[-1]
    return blocks.get(name) or next((blocks[own] for own in sorted(blocks) if is_of(own, name)), None)


def drive_of(
    device: str, pages: Iterable[Page], decoded: Mapping[str, object], block: BlockFacts | None, rules: Findings
) -> Drive | None:
    """The drive whose pages these are; None where there is none that only a drive has."""
    known = [page for page in pages if page.kind in BY_ID and BY_ID[page.kind].scope == DRIVE]
    if not known or all(page.kind == "log-directory" for page in known):
        return None
    own = {kind: value for kind, value in decoded.items() if BY_ID[kind].scope == DRIVE}
    facts = block.drive_facts if block else None
    pages_of_drive = DrivePages(
        {kind.id: own[kind.id] for kind in sorted(KINDS, key=lambda k: -k.richness) if kind.id in own},
        _is_hidden(known, own),
        sum(page.status != DECODED and not BY_ID[page.kind].optional for page in known),
        _namespaces(known),
        facts,
    )
    bus = _bus(block, pages_of_drive)
    is_silent = pages_of_drive.hidden and (bus in _FOREIGN or all(page.kind in _WHO_IT_IS for page in known))
    findings = (
        (judge_silent(bus, facts.level if facts else "") if is_silent else judge_hidden())
        if pages_of_drive.hidden
        else []
    )
    findings += _judged(pages_of_drive, rules)
    spoken = _speaking(pages_of_drive)
    log_weights = merged(
        kind.weigh(pages_of_drive.decoded[kind.id], pages_of_drive, rules) for kind in spoken if kind.weigh
    )
    weights = (
        None
        if is_silent and not any(f.severity == FAILING for f in findings)
        else health_weights(pages_of_drive, findings, rules)
    )
    verdict = _silent_verdict(bus) if is_silent else _verdict(pages_of_drive, findings, weights)
    return Drive(device, bus, pages_of_drive, tuple(findings), weights, log_weights, verdict)


def told_only(drives: Iterable[Drive], blocks: Mapping[str, BlockFacts], rules: Findings) -> list[Drive]:
    """Drives that the kernel lists and of which there is no page: soldered flash, cards, volumes, or what was not
    asked."""
    known, found = {d.device for d in drives}, []
    for name, block in sorted(blocks.items()):
        device = re.sub(r"^(nvme\d+)n\d+$", r"\1", name)
        if device in known or not is_a_drive(name) or block.is_virtual or not block.path:
            continue
        known.add(device)
        found.append(_told_drive(device, block.drive_facts, rules))
    return found


def _told_drive(device: str, facts: KernelFacts, rules: Findings) -> Drive:
    has_none = facts.bus in (*WITHOUT_PAGES, RAID, UNKNOWN)
    pages = DrivePages(hidden=has_none and facts.life is None, kernel=facts)
    findings = ranked(
        [
            *(judge_silent(facts.bus, facts.level) if pages.hidden else []),
            *(judge_life(facts.life, rules) if facts.life else []),
        ]
    )
    weights = health_weights(pages, findings, rules) if facts.life else None
    verdict = (
        _verdict(pages, findings, weights)
        if facts.life
        else _silent_verdict(facts.bus)
        if has_none
        else say("verdict.not-asked")
    )
    return Drive(device, facts.bus, pages, tuple(findings), weights, {}, verdict)


def _silent_verdict(bus: str) -> Said:
    return say("verdict.raid-volume" if bus == RAID else "verdict.silent")


def _namespaces(pages: Iterable[Page]) -> tuple[tuple[int | None, NvmeNamespace], ...]:
    """Every namespace that was identified, with its number where the list of them, or its page's name, tells it."""
    own = list(pages)
    listed = next((page.values.numbers for page in own if isinstance(page.values, NvmeNamespaces)), ())
    found = []
    for page in own:
        if isinstance(page.values, NvmeNamespace) and page.status == DECODED:
            number = _NAMESPACE.search(page.path)
            found.append((int(number[1]) if number else listed[0] if listed else None, page.values))
    return tuple(sorted(found, key=lambda f: f[0] or 0))


_NAMESPACE = re.compile(r"id-ns-(\d{1,9})\b")
_FOREIGN = ("scsi", "raid", "virtio")
_WHO_IT_IS = (
    "scsi-inquiry",
    "scsi-vpd-00",
    "scsi-vpd-80",
    "scsi-vpd-83",
    "scsi-vpd-b0",
    "scsi-vpd-b1",
    "scsi-capacity",
    "scsi-log-00",
    "scsi-log-0d",
)
_SAYS_LITTLE = ("smart-status", "nvme-errors", *_WHO_IT_IS)


def _is_hidden(known: Iterable[Page], decoded: Mapping[str, object]) -> bool:
    """Every page was refused or empty: a bridge or controller that passes none."""
    return not decoded.keys() - {*_SAYS_LITTLE} and all(
        page.status in (EMPTY, REFUSED) for page in known if page.kind not in _SAYS_LITTLE
    )


def _speaking(pages: DrivePages) -> list[PageKind]:
    """The kinds that are judged: of each topic the richest that was read."""
    chosen: dict[str, PageKind] = {}
    for kind in KINDS:
        if kind.id in pages.decoded:
            topic = kind.topic or kind.id
            if topic not in chosen or chosen[topic].richness < kind.richness:
                chosen[topic] = kind
    return list(chosen.values())


def _judged(pages: DrivePages, rules: Findings) -> list[Finding]:
    """All findings, the weightiest first; a log does not say again what the drive's other pages have said."""
    speaking = [kind for kind in _speaking(pages) if kind.judge]
    found = [
        f
        for kind in speaking
        if not kind.optional and kind.judge
        for f in kind.judge(pages.decoded[kind.id], kind.id, pages, rules)
    ]
    said = {f.id for f in found}
    logged = [
        f
        for kind in speaking
        if kind.optional and kind.judge
        for f in kind.judge(pages.decoded[kind.id], kind.id, pages, rules)
    ]
    return ranked([*ranked(found), *(f for f in logged if f.id not in said)])


def _verdict(pages: DrivePages, findings: Sequence[Finding], weights: Mapping[str, float] | None) -> Said:
    """One sentence that a technician can read at a glance."""
    if pages.hidden:
        return say("verdict.hidden")
    if weights is None:
        failing = next((f.text for f in findings if f.severity == FAILING), None)
        return say("verdict.only", worst=failing) if failing else say("verdict.identity-only")
    worst = next((f.text for f in findings if f.severity != NOTE), None)
    return say(verdict_words(weights), worst=worst or "")


def _bus(block: BlockFacts | None, pages: DrivePages) -> str:
    """How the drive is connected: by the kernel's facts, else by what it speaks."""
    told = block.bus if block else UNKNOWN
    if told == USB:
        return USB
    if pages.controller or (block and block.told.get("device/transport") == "pcie"):
        return NVME
    if told == UNKNOWN:
        return "ata" if pages.ata else "scsi" if "scsi-inquiry" in pages.decoded else UNKNOWN
    return told
