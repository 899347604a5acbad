"""What the members of a set hold together, as sectors: read from a copy, or worked out from the parities, where a
member is not there or cannot read a place. Nothing is written."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import groupby

import numpy as np

from gatecheck.core.disk.sectors import BEYOND, UNREADABLE, Sectors, Span
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.raid import fields
from gatecheck.core.volume.raid.layout import CopyLayout, Stripe, StripeZone, copies_of, stripe_of, zones_of
from gatecheck.core.volume.raid.read import LINEAR, Member

_ORIGINAL, _ALTERNATE = 1, 2
"""layouts of RAID 0 over members of different sizes"""


@dataclass(frozen=True, slots=True)
class PartOfSet:
    """A member, and the disk and LBA at which it begins."""

    disk: Sectors
    first: int
    member: Member


_Got = tuple[bytearray, dict[int, str]]
"""bytes, and the sectors among them (counted from the first) that are missing, with why"""


class RaidSectors:
    """`parts`: role -> member, those that are there."""

    def __init__(self, parts: Mapping[int, PartOfSet]) -> None:
        """Raises DecodeError for values that cannot be."""
        some = next(iter(parts.values()))
        own = some.member
        self.parts = dict(parts)
        self.level, self.layout, self.chunk, self.of = own.level, own.layout, own.chunk, own.of
        self._sector = max(p.disk.sector for p in parts.values())
        for part in parts.values():
            if part.member.data_at % part.disk.sector or own.chunk % self._sector:
                raise DecodeError("RAID member", at=part.member.data_at, expected="whole sectors", got="a part of one")
        if own.level in (LINEAR, 0):
            self._size = self._plain_size()
        elif own.level == 1:
            self._size = own.size
        elif own.level == 10:
            self._copies: CopyLayout = copies_of(own.layout, own.of, own.size // own.chunk)
            self._size = self._copies.chunks * own.chunk
        else:
            self._data = own.of - (2 if own.level == 6 else 1)
            if self._data < 1:
                raise DecodeError("RAID members", at=0, expected=f"enough for RAID {own.level}", got=str(own.of))
            stripe_of(own.level, own.layout, own.of, 0, 0)
            self._size = own.size // own.chunk * own.chunk * self._data

    def _plain_size(self) -> int:
        """Raises DecodeError where a member is missing: each gives what it has."""
        sizes = [self.parts[role].member.data_size for role in range(self.of) if role in self.parts]
        if len(sizes) < self.of:
            raise DecodeError("RAID set", at=0, expected=f"all of its {self.of} members", got=f"{len(sizes)}")
        if self.level == LINEAR:
            step = self.chunk or self._sector
            self._starts = [0]
            for size in sizes:
                self._starts.append(self._starts[-1] + size // step * step)
            return self._starts[-1]
        self._zones: tuple[StripeZone, ...] = zones_of(tuple(size // self.chunk for size in sizes))
        if len(self._zones) > 1 and self.layout not in (_ORIGINAL, _ALTERNATE):
            raise DecodeError("RAID 0 layout", at=0, expected="1 or 2 for members of different sizes", got="none told")
        return sum(z.count for z in self._zones) * self.chunk

    @property
    def sector(self) -> int:
        return self._sector

    @property
    def length(self) -> int:
        return self._size // self._sector

    def read(self, lba: int, count: int) -> Span:
        size, count = self._sector, max(0, count)
        out, missing = bytearray(count * size), dict[int, str]()
        for place in range(lba, lba + count):
            if not 0 <= place < self.length:
                missing[place] = BEYOND
        at, end = max(lba, 0) * size, min(lba + count, self.length) * size
        while at < end:
            there, data = self._piece(at, end)
            got, lost = data
            out[at - lba * size : at - lba * size + len(got)] = got
            missing |= {at // size + n: why for n, why in lost.items()}
            at = there
        return Span(lba, size, bytes(out), missing)

    def _piece(self, at: int, end: int) -> tuple[int, _Got]:
        """What stands from that byte on as far as it lies in one row, and the byte behind it."""
        if self.level == 1:
            return end, self._of_copies([(role, at) for role in sorted(self.parts)], end - at)
        if self.level == LINEAR:
            role = next(n for n in range(self.of) if at < self._starts[n + 1])
            end = min(end, self._starts[role + 1])
            return end, self._of_member(role, at - self._starts[role], end - at)
        number, inside = divmod(at, self.chunk)
        end = min(end, (number + 1) * self.chunk)
        if self.level == 0:
            zone = next(z for z in self._zones if number < z.first + z.count)
            own = number - zone.first
            turn = number if self.layout == _ORIGINAL else own
            role, row = zone.members[turn % len(zone.members)], zone.start + own // len(zone.members)
            return end, self._of_member(role, row * self.chunk + inside, end - at)
        if self.level == 10:
            places = [(role, row * self.chunk + inside) for role, row in self._copies.places(number)]
            return end, self._of_copies(places, end - at)
        row, place = divmod(number, self._data)
        stripe = stripe_of(self.level, self.layout, self.of, row, place)
        return end, self._of_stripe(stripe, row * self.chunk + inside, end - at)

    def _of_member(self, role: int, at: int, size: int) -> _Got:
        part, step = self.parts.get(role), self._sector
        if part is None:
            return bytearray(size), dict.fromkeys(range(size // step), UNREADABLE)
        own, disk = part.member, part.disk
        first = (part.first * disk.sector + own.data_at + at) // disk.sector
        span = disk.read(first, size // disk.sector)
        missing = {(lba - first) * disk.sector // step: why for lba, why in span.missing.items()}
        if own.rebuilt_to is not None:
            low = max(0, own.rebuilt_to - at) // step
            missing |= dict.fromkeys(range(low, size // step), UNREADABLE)
        for bad, count in own.bad:
            low, high = max(bad, at), min(bad + count, at + size)
            if low < high:
                missing |= dict.fromkeys(range((low - at) // step, -(-(high - at) // step)), UNREADABLE)
        return bytearray(span.data), missing

    def _of_copies(self, places: Sequence[tuple[int, int]], size: int) -> _Got:
        step = self._sector
        out, missing = bytearray(size), dict.fromkeys(range(size // step), UNREADABLE)
        for role, at in places:
            if role not in self.parts:
                continue
            for low, high in _runs(missing):
                got, lost = self._of_member(role, at + low * step, (high - low) * step)
                for n in range(low, high):
                    if n - low in lost:
                        missing[n] = lost[n - low]
                    else:
                        del missing[n]
                        out[n * step : (n + 1) * step] = got[(n - low) * step : (n - low + 1) * step]
            if not missing:
                break
        return out, missing

    def _of_stripe(self, stripe: Stripe, at: int, size: int) -> _Got:
        step = self._sector
        out, missing = self._of_member(stripe.data, at, size)
        for low, high in list(_runs(missing)):
            whole = self._worked_out(stripe, at + low * step, (high - low) * step)
            for n in range(low, high):  # where another member fails beside this one: sector by sector
                made = whole and whole[(n - low) * step : (n - low + 1) * step]
                made = made or self._worked_out(stripe, at + n * step, step)
                if made is not None:
                    out[n * step : (n + 1) * step] = made
                    del missing[n]
        return out, missing

    def _worked_out(self, stripe: Stripe, at: int, size: int) -> bytes | None:
        """The data of one place by the rest of its stripe; None where too much of it is missing."""
        held: dict[int, np.ndarray] = {}
        lost: list[int] = []
        for role in range(self.of):
            if role == stripe.data:
                continue
            got, gone = self._of_member(role, at, size)
            if gone:
                lost.append(role)
            else:
                held[role] = np.frombuffer(bytes(got), np.uint8)
        data = [r for r in range(self.of) if r not in (stripe.p, stripe.q)]
        others = [r for r in data if r != stripe.data]
        if stripe.p in held and all(r in held for r in others):
            return bytes(_sum([held[stripe.p], *(held[r] for r in others)], size))
        if stripe.q is None or stripe.q not in held:
            return None
        rank = {role: n for n, role in enumerate(stripe.order) if role is not None}
        gone_data = [r for r in others if r not in held]
        sum_q = _sum(
            [held[stripe.q], *(fields.times(held[r], fields.power(rank[r])) for r in others if r in held)], size
        )
        own = fields.power(rank[stripe.data])
        if not gone_data:
            return bytes(fields.times(sum_q, fields.inverse(own)))
        if len(gone_data) > 1 or stripe.p not in held:
            return None
        second = fields.power(rank[gone_data[0]])
        sum_p = _sum([held[stripe.p], *(held[r] for r in others if r in held)], size)
        both = fields.times(sum_p, second) ^ sum_q
        return bytes(fields.times(both, fields.inverse(own ^ second)))


def _sum(parts: Sequence[np.ndarray], size: int) -> np.ndarray:
    total = np.zeros(size, np.uint8)
    for part in parts:
        total = total ^ part
    return total


def _runs(places: Mapping[int, str]) -> Iterator[tuple[int, int]]:
    """(first, last + 1) of numbers in a row; of what was there at the start."""
    for _, group in groupby(enumerate(sorted(places)), key=lambda pair: pair[1] - pair[0]):
        own = [n for _, n in group]
        yield own[0], own[-1] + 1
