"""The ledger in sentences, as a customer reads it: in "we" and the past tense, of what was carried out and nothing
else."""

from __future__ import annotations

from collections.abc import Mapping

from gatecheck.core.belief.facts import FactValue
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.words.said import Said, say
from gatecheck.core.work.deeds import BEGUN, COULD_NOT, DONE, ERASE, FAILED, INSTALL, UNDONE, Deed
from gatecheck.core.work.ledger import AWAY, NOT_TRIED, STARTS, STOPS, WORKS, Ledger
from gatecheck.core.work.proof import PROVEN

FLASH = ("nvme", "sata-ssd", "emmc")
_MOST_EVIDENCE = 2
_MOST_IN_VAIN = 3
_SAID_BY_ENDING = ("cold-1", "cold-2")
_BOOT_ONLY = ("rebuild-table", "rebuild-boot-record", "rebuild-loader", "mend")
_LONG = ("repair-volume", "roll-back", "reset-keep", "reset-clean", "install", "image-back", "mend", "fill")
"""deeds that may end otherwise than well"""
_OLD = {"failing": "old-back-failing", "unreadable": "old-back-unreadable", "dead": "old-back-dead"}


def found_of(ledger: Ledger, knowledge: Knowledge, facts: Mapping[str, FactValue]) -> tuple[Said, ...]:
    """What was found, each with what it rests on."""
    lines: list[Said] = []
    shown: set[tuple[str, str]] = set()
    for found in ledger.found:
        lines.append(say(f"told.found.{found.fault}"))
        rests_on = [pair for pair in found.rests_on if pair not in shown][:_MOST_EVIDENCE]
        shown |= {*rests_on}
        lines += [
            say(f"told.looked.{move}", saw=knowledge.checks[move].say[outcome])
            for move, outcome in rests_on
            if move != "screen" or outcome != ledger.stopped
        ]
    if lines:
        return tuple(lines)
    if ledger.possible:
        return (say("told.found.not-sure"), _possible(ledger.possible))
    if ledger.ending in (WORKS, STARTS) and ledger.stopped is None:
        return (say("told.found.nothing"),)
    if ledger.ending in (WORKS, STARTS) and not ledger.repaired:
        return (say("told.found.started-again"),)
    return (say("told.found.not-sure"),)


def _possible(faults: tuple[str, ...]) -> Said:
    return say("told.found.possible" if len(faults) > 1 else "told.found.possible-one", faults=list(faults))


def done_of(ledger: Ledger, knowledge: Knowledge) -> tuple[Said, ...]:
    """What was done, in order, with what came of it; what was in vain in short."""
    lines: list[Said] = []
    if ledger.reason:
        lines.append(say(f"told.reason.{ledger.reason}"))
    if ledger.way == "data-only":
        lines.append(say("told.ledger.only-data"))
    trials = [d for d in ledger.deeds if d.result == UNDONE and _is_trial(d, knowledge)]
    vain = [d for d in ledger.deeds if d.result == "no-change" and not _writes(d, knowledge)]
    for deed in ledger.deeds:
        if deed in trials or deed in vain[_MOST_IN_VAIN:]:
            continue
        if deed.what == ERASE and any(d.what == INSTALL and d.was_done for d in ledger.deeds):
            continue  # it is part of it
        lines += _deed(deed)
    if trials:
        several = say("told.ledger.tried-settings", count=len(trials))
        lines.append(several if len(trials) > 1 else say("told.ledger.tried-setting"))
    if len(vain) > _MOST_IN_VAIN:
        lines.append(say("told.ledger.more-in-vain", count=len(vain) - _MOST_IN_VAIN))
    count, rounds = ledger.updates
    if rounds:
        is_all = any(p.what == "update-failed" for p in ledger.open)
        lines.append(say("told.did.updates-some" if is_all else "told.did.updates", count=count, rounds=rounds))
    if ledger.way == "nothing" and not any(d.was_done for d in ledger.deeds):
        lines.append(say("told.ledger.as-it-came"))
    elif not any(d.was_done for d in ledger.deeds):
        lines.append(say("told.ledger.looked"))
    return tuple(lines)


def _is_trial(deed: Deed, knowledge: Knowledge) -> bool:
    return deed.what in knowledge.fixes and knowledge.fixes[deed.what].setting


def _writes(deed: Deed, knowledge: Knowledge) -> bool:
    return deed.what in knowledge.fixes and knowledge.fixes[deed.what].writes


def deed_of(deed: Deed) -> Said:
    """What was done, or why not, without what came of it."""
    return _deed(deed)[0]


def _deed(deed: Deed) -> list[Said]:
    if deed.result == "declined":
        return [say(f"told.declined.{deed.what}")]
    if deed.result == "left-on":
        return [say(f"told.left-on.{deed.what}")]
    if deed.result == COULD_NOT:
        return [say(f"told.could-not.{deed.what}", **deed.values)]
    if deed.result in (BEGUN, FAILED) and deed.what in _LONG:
        return [say(f"told.began.{deed.what}", **deed.values), say(f"told.then.{deed.result}")]
    did = [say(f"told.did.{deed.what}", **deed.values)]
    if deed.result == BEGUN:
        return [*did, say("told.then.untried")]
    if deed.result in (DONE, "sent", "off") or (deed.what == INSTALL and deed.result == "boots"):
        return did
    return [*did, say(f"told.then.{deed.result}")]


def now_of(ledger: Ledger) -> tuple[Said, ...]:
    """How the machine stands at the end, as it was seen."""
    proven = {p.id for p in ledger.proof if p.state == PROVEN}
    lines: list[Said] = []
    if ledger.ending == WORKS:
        lines.append(say("told.ending.works" if ledger.stopped else "told.ending.works-always"))
    elif ledger.ending == STARTS:
        lines.append(say("told.ending.starts" if ledger.stopped else "told.ending.starts-always"))
    elif ledger.ending == STOPS:
        lines.append(say("told.ending.stops"))
    elif ledger.ending == AWAY:
        lines.append(say(f"told.ending.away-{ledger.data.at}"))
    elif ledger.ending == NOT_TRIED and ledger.repaired:
        lines.append(say("told.ending.not-tried"))
    lines += [
        say(f"told.checked.{p.id}")
        for p in ledger.proof
        if p.id in proven
        and not (p.id in _SAID_BY_ENDING and ledger.ending == WORKS)
        and p.id != "data-seen"
        and not (p.id == "no-trial" and not any(d.result == UNDONE for d in ledger.deeds))
    ]
    return tuple(lines)


def data_of(ledger: Ledger) -> tuple[Said, ...]:
    """What became of the data."""
    data = ledger.data
    lines: list[str | Said] = []
    if not data.has_data:
        lines.append("none-there")
    if data.copy == "whole":
        lines.append("whole-before" if data.before and (data.written or data.erased) else "whole")
    elif data.copy:
        lines.append(data.copy)
    if data.has_backup:
        lines.append("backup")
    lines += _contents(ledger)
    if data.back:
        lines.append(say(f"told.data.back-{data.back}", what=data.back_what))
    elif data.replaced and data.has_data:
        lines.append("not-back")
    if data.seen == "seen":
        lines.append("seen")
    if data.replaced or data.old:
        lines.append(_old_drive(ledger))
    return tuple(say(f"told.data.{x}") if isinstance(x, str) else x for x in lines)


def _contents(ledger: Ledger) -> list[str | Said]:
    """What became of the contents of the drive that it came with."""
    data = ledger.data
    lines: list[str | Said] = []
    if data.erased:
        lines.append("erased" if data.back else "erased-gone")
    elif data.unfinished:
        lines.append("written-part")
    elif data.written:
        lines.append("mended" if set(data.written) <= {*_BOOT_ONLY} else "written")
    if data.at:
        lines.append(data.at)
    if not (data.erased or data.unfinished or data.written or data.at or data.replaced) and data.has_data:
        kept = "copied" if data.copy == "whole" else data.drive
        lines.append("untouched" if data.drive == "sound" else f"untouched-{kept}")
    return lines


def _old_drive(ledger: Ledger) -> str | Said:
    data = ledger.data
    if data.old == "lab":
        return "old-lab"
    if data.old == "destroyed":
        return say("told.data.old-destroyed", record=data.old_record)
    if data.old != "back":
        return "old-here"
    if data.erased:
        return "old-back-erased"
    return _OLD.get(data.drive, "old-back" if data.has_data else "old-back-empty")


def left_of(ledger: Ledger) -> tuple[Said, ...]:
    """What was left undone, and why."""
    lines = []
    for item in ledger.open:
        values: dict[str, object] = {"why": item.why}
        if item.what in ("not-done", "not-wanted", "part-ordered"):
            values["advice"] = say(f"told.advise.{item.about}")
        elif item.what in ("skipped", "unchecked"):
            values["what"] = say(f"told.unchecked.{item.about}")
        if item.what == "does-not-start":
            continue  # it is said of how it stands
        if item.what == "not-passed":
            lines.append(say(f"told.not-passed.{item.about}"))
            continue
        lines.append(say(f"told.open.{item.what}", **values))
    return tuple(lines)
