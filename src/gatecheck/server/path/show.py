"""A walk as the screen is sent it: ruler, steps, the stop unfolded to its bytes, plans as before and after."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence

from gatecheck.core.disk.division import Division, division_of
from gatecheck.core.disk.follow import Followed, Run
from gatecheck.core.disk.marks import marks_of
from gatecheck.core.disk.mend_entry import EntryPlan
from gatecheck.core.disk.plan import RepairPlan, Write
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.walk import WalkFinding
from gatecheck.core.disk.where import places_of, tables_of
from gatecheck.core.volume.readers import name_at
from gatecheck.core.words.catalogue import Words
from gatecheck.core.words.said import Said, say
from gatecheck.server.path.seen import SeenPath
from gatecheck.server.path.wire import (
    MarkOut,
    MendOut,
    PathDiskOut,
    PathOut,
    PathPlanOut,
    PathStepOut,
    PieceOut,
    PlanWriteOut,
    SpanOut,
    StopOut,
)

_MOST_SPANS, _SHOWN_BYTES, _MOST_WRITES = 24, 32, 40
_TABLE_FIXES = ("protective-mbr", "gpt-", "lost-", "record", "mbr-signature", "media-byte")


def fix_of(plan: RepairPlan, followed: Followed) -> str:
    """The move that this plan carries out."""
    if plan.id.startswith("loader"):
        return "rebuild-loader"
    return "rebuild-table" if plan.id.startswith(_TABLE_FIXES) else "rebuild-boot-record"


def path_out(
    seen: SeenPath | None,
    words: Words,
    *,
    disks: Sequence[PathDiskOut],
    reading: int | None,
    held: Mapping[str, str],
    linked: bool,
    mends: list[MendOut],
    fix_names: Mapping[str, str],
    systems: Callable[[str, int], Sequence[str]] = lambda disk, first: (),
) -> PathOut:
    if seen is None:
        return PathOut(
            disks=list(disks),
            device="",
            disk="",
            mode="",
            mode_told=False,
            sector=512,
            sectors=0,
            scheme="",
            pieces=[],
            tables=[],
            steps=[],
            last_reads=[],
            boots=None,
            verdict="",
            findings=[],
            stop=None,
            plans=[],
            searches=False,
            unread=0,
            reading=reading,
            held=held.get("disk-layout", ""),
            linked=linked,
            entries=False,
            secure=False,
            mends=mends,
        )
    ground, followed = seen.ground, seen.followed
    disk, verdict = ground.sectors, followed.verdict
    division = division_of(disk)
    stands = followed.stands
    stop = _stop(followed, disk, division, words) if stands and not verdict.boots else None
    said = (
        say("path.unread", count=sum(count for _, count in followed.wanted))
        if not stands
        else say("path.boots")
        if verdict.boots
        else say("path.stops", text=stop.text if stop else "")
    )
    return PathOut(
        disks=list(disks),
        device=ground.device,
        disk=ground.disk.device,
        mode=ground.mode,
        mode_told=ground.told,
        sector=disk.sector,
        sectors=disk.length or 0,
        scheme=division.scheme,
        pieces=[
            PieceOut(
                number=p.number,
                first=p.first,
                last=p.last,
                name=p.name,
                holds=name_at(disk, p.first),
                systems=list(systems(ground.disk.device, p.first)),
            )
            for p in division.pieces
            if not p.is_extended
        ],
        tables=[
            PieceOut(number=0, first=first, last=last, name=words.say(Said(f"where.{name}", {})), holds="", systems=[])
            for first, last, name in tables_of(disk, division)
        ],
        steps=[
            PathStepOut(text=words.say(step), reads=_spans(own))
            for step, own in zip(verdict.path[: followed.sure], followed.reads, strict=False)
        ],
        last_reads=_spans(followed.reads[-1]) if stands else [],
        boots=verdict.boots if stands else None,
        verdict=words.say(said),
        findings=[words.say(f.text) for f in verdict.findings if stands and not (stop and f is verdict.findings[-1])],
        stop=stop,
        plans=[
            *([_entry(seen.entry, words, held, fix_names)] if seen.entry else []),
            *(_plan(p, followed, disk, words, held, fix_names) for p in seen.known.plans),
        ],
        searches=bool(seen.known.searches),
        unread=sum(count for _, count in (*followed.wanted, *seen.known.wanted)),
        reading=reading,
        held=held.get("disk-layout", ""),
        linked=linked,
        entries=ground.entries is not None,
        secure=ground.secure,
        mends=mends,
    )


def _spans(runs: Sequence[Run]) -> list[SpanOut]:
    return [SpanOut(first=first, last=first + count - 1) for first, count in runs[:_MOST_SPANS]]


def _stop(followed: Followed, disk: Sectors, division: Division, words: Words) -> StopOut:
    verdict = followed.verdict
    last = verdict.findings[-1] if verdict.findings else None
    lba = _place(last, followed, division)
    text = words.say(last.text) if last else words.say(say("path.stops-untold"))
    if lba is None:
        return StopOut(
            gate=verdict.stops_at or "layout", text=text, lba=None, structure="", hex="", missing="", marks=[]
        )
    span = disk.read(lba, 1)
    where = places_of(disk, [lba])[0]
    structure = " ".join(filter(None, (words.say(where.structure), where.path)))
    marks = (
        [MarkOut(at=m.at, size=m.size, name=m.name) for m in marks_of(span.data, lba, division)]
        if not span.missing
        else []
    )
    return StopOut(
        gate=verdict.stops_at or "layout",
        text=text,
        lba=lba,
        structure=structure,
        hex="" if span.missing else span.data[:4096].hex(),
        missing=next(iter(span.missing.values()), ""),
        marks=marks,
    )


def _place(last: WalkFinding | None, followed: Followed, division: Division) -> int | None:
    """The sector that a stop is about: the one it names, the start of the partition it names where that is what is
    wrong, else what was read last."""
    if last is not None:
        named = re.search(r"LBA (\d+)", last.where)
        if named:
            return int(named[1])
        number = re.search(r"partition (\d+)", last.where)
        piece = next((p for p in division.pieces if number and p.number == int(number[1])), None)
        if piece is not None and last.gate == "layout":
            return piece.first
        inside = [
            first
            for own in followed.reads
            for first, _ in own
            if piece is not None and piece.first <= first <= piece.last
        ]
        if inside:
            return inside[-1]
    runs = next((own for own in reversed(followed.reads) if own), ())
    return runs[-1][0] if runs else None


def _plan(
    plan: RepairPlan,
    followed: Followed,
    disk: Sectors,
    words: Words,
    held: Mapping[str, str],
    fix_names: Mapping[str, str],
) -> PathPlanOut:
    fix = fix_of(plan, followed)
    return PathPlanOut(
        id=plan.id,
        what=words.say(plan.what),
        why=words.say(plan.why),
        doubts=[words.say(d) for d in plan.doubts],
        writes=[_write(w, disk, words) for w in plan.writes[:_MOST_WRITES]],
        boots_after=plan.boots_after,
        fix=fix,
        fix_name=fix_names.get(fix, fix),
        held=held.get(fix, ""),
    )


def _entry(plan: EntryPlan, words: Words, held: Mapping[str, str], fix_names: Mapping[str, str]) -> PathPlanOut:
    """A boot entry: firmware's variables, not the disk."""
    writes = [
        PlanWriteOut(
            at=None,
            length=len(w.after or b""),
            field=w.name.partition("-")[0],
            skipped=0,
            before=(w.before or b"")[:_SHOWN_BYTES].hex(),
            after=(w.after or b"")[:_SHOWN_BYTES].hex(),
        )
        for w in plan.writes
    ]
    return PathPlanOut(
        id="entry",
        what=words.say(plan.what),
        why=words.say(plan.why),
        doubts=[words.say(d) for d in plan.doubts],
        writes=writes,
        boots_after=plan.boots_after,
        fix="restore-entry",
        fix_name=fix_names.get("restore-entry", ""),
        held=held.get("restore-entry", ""),
    )


def _write(own: Write, disk: Sectors, words: Words) -> PlanWriteOut:
    size = disk.sector
    first = own.at // size
    before = disk.read(first, -(-(own.at + len(own.data)) // size) - first).data[own.at - first * size :][
        : len(own.data)
    ]
    at = next((n for n, (a, b) in enumerate(zip(before, own.data, strict=True)) if a != b), 0) // 16 * 16
    return PlanWriteOut(
        at=own.at,
        length=len(own.data),
        field=words.say(own.field),
        skipped=at,
        before=before[at : at + _SHOWN_BYTES].hex(),
        after=own.data[at : at + _SHOWN_BYTES].hex(),
    )
