"""Where the bytes of a set stand on its members.

Source: drivers/md of the kernel: raid0.c (zones), raid5.c (raid5_compute_sector), raid10.c (setup_geo,
raid10_find_phys)."""

from __future__ import annotations

from dataclasses import dataclass

from gatecheck.core.errors import DecodeError


@dataclass(frozen=True, slots=True)
class Stripe:
    """Where a chunk of a set with parity stands: the same chunk of each member. `data`: the member that holds it; `p`,
    `q`: those that hold the parities, None where there is none; `order`: the members of the stripe as Q counts them,
    None in it for a place that counts and holds nothing."""

    data: int
    p: int
    q: int | None
    order: tuple[int | None, ...]


_P_FIRST, _P_LAST = 4, 5
_ZERO_RESTART, _N_RESTART, _N_CONTINUE = 8, 9, 10
_Q_LAST = 16
"""layouts of RAID 6 whose data and P stand as in RAID 5, with Q on the last member"""


def _p_of_5(layout: int, number: int, of: int) -> int:
    if layout in (0, 2):
        return of - 1 - number % of
    if layout in (1, 3):
        return number % of
    return {_P_FIRST: 0, _P_LAST: of - 1}[layout]


def _data_of_5(layout: int, place: int, p: int, of: int) -> int:
    if layout in (2, 3):
        return (p + 1 + place) % of
    return place + (place >= p)


def stripe_of(level: int, layout: int, of: int, number: int, place: int) -> Stripe:
    """The stripe of that number, and in it the chunk of data of that place. Raises DecodeError for a layout that there
    is not."""
    try:
        if level in (4, 5):
            p = of - 1 if level == 4 else _p_of_5(layout, number, of)
            data = place if level == 4 else _data_of_5(layout, place, p, of)
            return Stripe(data, p, None, ())
        return _of_6(layout, of, number, place)
    except KeyError:
        raise DecodeError("RAID layout", at=0, expected=f"one of RAID {level}", got=str(layout)) from None


def _of_6(layout: int, of: int, number: int, place: int) -> Stripe:
    as_listed = layout in (_ZERO_RESTART, _N_RESTART, _N_CONTINUE)
    if layout >= _Q_LAST:
        p = _p_of_5(layout - _Q_LAST, number, of - 1)
        q, data = of - 1, _data_of_5(layout - _Q_LAST, place, p, of - 1)
    elif layout == _P_FIRST:
        p, q, data = 0, 1, place + 2
    elif layout == _P_LAST:
        p, q, data = of - 2, of - 1, place
    elif layout in (2, 3):
        p = of - 1 - number % of if layout == 2 else number % of
        q, data = (p + 1) % of, (p + 2 + place) % of
    elif layout == _N_CONTINUE:
        p = of - 1 - number % of
        q, data = (p - 1) % of, (p + 1 + place) % of
    elif layout in (0, 1, _ZERO_RESTART, _N_RESTART):
        p = number % of if layout in (1, _ZERO_RESTART) else of - 1 - (number + (layout == _N_RESTART)) % of
        q = (p + 1) % of
        data = place + 1 if p == of - 1 else place + (2 if place >= p else 0)
    else:
        raise KeyError(layout)
    if as_listed:
        return Stripe(data, p, q, tuple(None if m in (p, q) else m for m in range(of)))
    turned = ((q + 1 + n) % of for n in range(of))
    return Stripe(data, p, q, tuple(m for m in turned if m not in (p, q)))


@dataclass(frozen=True, slots=True)
class CopyLayout:
    """RAID 10. `near`, `far`: copies side by side and copies far behind; `is_offset`: those stand in the next chunk;
    `group`: members among which the far copies turn. All in chunks."""

    of: int
    near: int
    far: int
    is_offset: bool
    group: int
    stride: int
    chunks: int

    def places(self, number: int) -> list[tuple[int, int]]:
        """(member, chunk on it) of every copy of the set's chunk of that number."""
        found = []
        row, member = divmod(number * self.near, self.of)
        if self.is_offset:
            row *= self.far
        last_start = (self.of // self.group - 1) * self.group
        last_size = self.group + self.of % self.group
        for _ in range(self.near):
            own, at = member, row
            found.append((own, at))
            for _ in range(1, self.far):
                group = own // self.group
                own += self.near
                if self.of % self.group and own > last_start:
                    own = (own - last_start) % last_size + last_start
                else:
                    own = own % self.group + self.group * group
                at += self.stride
                found.append((own, at))
            member += 1
            if member >= self.of:
                member, row = 0, row + 1
        return found


def copies_of(layout: int, of: int, chunks: int) -> CopyLayout:
    """Of members that use so many chunks each. Raises DecodeError for a layout that there is not."""
    near, far, is_offset, kind = layout & 0xFF, layout >> 8 & 0xFF, bool(layout >> 16 & 1), layout >> 17
    group = {0: of, 1: of // far if far else 0, 2: far * near}.get(kind, 0)
    if not near or not far or near * far > of or not group or layout >> 19:
        raise DecodeError("RAID 10 layout", at=0, expected=f"copies on {of} members", got=f"{layout:x}h")
    whole = chunks // far * of // near
    used = -(-whole * near * far // of)
    return CopyLayout(of, near, far, is_offset, group, 1 if is_offset else used // far, whole)


@dataclass(frozen=True, slots=True)
class StripeZone:
    """Chunks of a striped set from `first` on, spread over `members`, on each from chunk `start` on."""

    first: int
    count: int
    members: tuple[int, ...]
    start: int


def zones_of(chunks: tuple[int, ...]) -> tuple[StripeZone, ...]:
    """Of members that hold so many chunks each: all of them, then those larger than the smallest, and so on."""
    zones, done, start = list[StripeZone](), 0, 0
    while any(own > start for own in chunks):
        members = tuple(m for m, own in enumerate(chunks) if own > start)
        rows = min(chunks[m] for m in members) - start
        zones.append(StripeZone(done, rows * len(members), members, start))
        done += rows * len(members)
        start += rows
    return tuple(zones)
