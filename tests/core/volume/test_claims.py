"""Who claims which clusters, and which folder lies in which, against the plainest way of counting: in parts of any size
the same."""

from __future__ import annotations

import random

import numpy as np
import pytest

from gatecheck.core.volume import claims as module
from gatecheck.core.volume.claims import Claims, Marks
from gatecheck.core.volume.ntfs.names import Names, Parents
from gatecheck.core.volume.ntfs.read import ROOT

CLUSTERS = 700


def some(rng: random.Random, runs: int) -> list[tuple[int, int, int]]:
    return [(rng.randrange(1, 40), rng.randrange(CLUSTERS + 20), rng.choice([1, 1, 2, 5, 30])) for _ in range(runs)]


def taken(runs: list[tuple[int, int, int]], at_once: bool) -> Claims:
    own = Claims(CLUSTERS)
    if at_once:
        own.add_all(*(np.array(column, np.int64) for column in zip(*runs, strict=True)))
    else:
        for run in runs:
            own.add(*run)
    return own


@pytest.mark.parametrize("slice_", [1, 8, 64, 1 << 20])
@pytest.mark.parametrize("seed", range(6))
def test_runs_against_the_map_are_what_counting_every_cluster_gives(
    seed: int, slice_: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(module, "_SLICE", max(slice_, 8))
    rng = random.Random(seed)
    runs = some(rng, 40)
    own = taken(runs, at_once=bool(seed % 2))
    used = np.array([rng.random() < 0.6 for _ in range(CLUSTERS)], np.uint8)
    holders: dict[int, set[int]] = {}
    bare: dict[int, int] = {}
    for owner, start, count in runs:
        for cluster in range(start, min(start + count, CLUSTERS)):
            holders.setdefault(cluster, set()).add(owner)
            bare[owner] = bare.get(owner, 0) + (not used[cluster])
    lost = [n for n in range(CLUSTERS) if used[n] and n not in holders]
    for map_ in (used, Marks(np.packbits(used, bitorder="little").tobytes(), CLUSTERS)):
        found = own.against(map_)
        assert (found.lost, found.first_lost) == (len(lost), lost[0] if lost else -1)
        assert found.unmarked == {owner: count for owner, count in bare.items() if count}
    assert own.beyond == {
        o: n for o in {r[0] for r in runs} if (n := sum(min(c, max(0, s + c - CLUSTERS)) for q, s, c in runs if q == o))
    }
    start, count, owner = own.sorted()
    assert sorted(zip(owner.tolist(), start.tolist(), count.tolist(), strict=True)) == sorted(
        (o, s, min(c, CLUSTERS - s)) for o, s, c in runs if s < CLUSTERS
    )


@pytest.mark.parametrize("slice_", [1, 3, 10, 1 << 20])
@pytest.mark.parametrize("seed", range(8))
def test_runs_over_each_other_are_found_however_they_are_cut_into_parts(
    seed: int, slice_: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    rng = random.Random(seed)
    runs = [(n + 1, rng.randrange(CLUSTERS - 60), rng.choice([1, 4, 20, 50])) for n in range(rng.choice([2, 12, 25]))]
    whole = taken(runs, at_once=True).cross_links()
    monkeypatch.setattr(module, "_SLICE", slice_)
    assert {(c.first, c.count, c.other) for c in taken(runs, at_once=False).cross_links()} == {
        (c.first, c.count, c.other) for c in whole
    }
    by_start = sorted(runs, key=lambda r: r[1])
    over = {r[0] for n, r in enumerate(by_start) if any(e[1] + e[2] > r[1] for e in by_start[:n])}
    assert {c.other for c in whole} == over
    for cross in whole:
        one, other = (next(r for r in runs if r[0] == o) for o in (cross.one, cross.other))
        assert max(one[1], other[1]) <= cross.first
        assert cross.first + cross.count <= min(one[1] + one[2], other[1] + other[2])


def test_a_map_that_is_cut_short_tells_of_nothing_behind_its_end() -> None:
    marks = Marks(b"\xff\x0f", 30)
    assert (len(marks), marks[3:20].tolist(), marks.used()) == (16, [1] * 9 + [0] * 8, 12)


@pytest.mark.parametrize("seed", range(10))
def test_circles_of_folders_are_those_from_which_no_step_leads_out(seed: int) -> None:
    rng, size = random.Random(seed), 60
    parents = {
        n: rng.choice([ROOT, rng.randrange(size), rng.randrange(size), size + 4])
        for n in rng.sample(range(6, size), 40)
    } | {ROOT: ROOT}
    own = Parents(size)
    own.put(np.array(list(parents)), np.array(list(parents.values())))
    expected = []
    for number in sorted(parents):
        seen: set[int] = set()
        at = number
        while at != ROOT and at in parents and at not in seen:
            seen.add(at)
            at = parents[at]
        if at in seen:
            expected.append(number)
    assert own.folder_cycles().tolist() == expected
    assert [n for n in range(size + 9) if n in own] == sorted(parents)


def test_what_folders_list_and_what_records_say_leaves_nothing_only_where_both_are_the_same() -> None:
    rng = np.random.default_rng(3)
    parent, number, mark = rng.integers(0, 50, 4000), rng.integers(0, 9000, 4000), rng.integers(0, 1 << 62, 4000)
    own, order = Names(50), rng.permutation(4000)
    own.tell(parent, number, mark)
    own.list(parent[order], number[order], mark[order])
    assert not own.mismatched_names().any()
    for change in ((number, 17, 1), (mark, 40, 4), (parent, 99, None)):
        again, (column, place, by) = Names(50), change
        other = column.copy()
        other[place] = (other[place] + 1) % 50 if by is None else other[place] + by
        told = [other if column is c else c for c in (parent, number, mark)]
        again.tell(parent, number, mark)
        again.list(*told)
        assert set(np.flatnonzero(again.mismatched_names())) == {int(parent[place]), int(told[0][place])}
    own.tell(np.array([50]), np.array([1]), np.array([1]))
    assert own.outside
