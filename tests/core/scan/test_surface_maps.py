"""Read maps judged: the pattern, what is unreadable, where, how fast, how long still; and maps that are not as they
should be."""

from __future__ import annotations

import json
import time
from collections import Counter
from pathlib import Path

import numpy as np
import pytest
from maps import KINDS, as_csv, drawn
from tracks import WAYS, tracked

from gatecheck.cli.main import main
from gatecheck.core.scan.coarse import coarser, compact
from gatecheck.core.scan.judge import OUTCOMES, judge_map
from gatecheck.core.scan.read import LEFT, READ, UNREADABLE, MapError, ReadMap, merge_maps, read_map, read_parts


@pytest.mark.parametrize("kind", KINDS)
def test_a_pattern_is_told_from_the_others(kind: str) -> None:
    """At sizes, budgets and noise drawn anew: at least nine in ten, and nothing unreadable missed or invented."""
    told: Counter[bool] = Counter()
    for seed in range(24):
        made = drawn(
            kind,
            seed,
            flash=kind != "one-head" and seed % 2 == 1,
            noise=(0.0, 0.004, 0.02)[seed % 3],
            budget=(1.0, 0.6)[seed % 2],
        )
        found = judge_map(made.map)
        told[found.pattern == made.kind] += 1
        assert found.unreadable_sectors == made.bad_sectors
        assert sum(found.weights.values()) == pytest.approx(1.0, abs=0.01)
    assert told[True] >= 22, told


def test_one_dead_head_is_told_with_its_share() -> None:
    for seed in range(6):
        made = drawn("one-head", seed)
        heads = judge_map(made.map).heads
        assert heads is not None
        assert heads.share == pytest.approx(made.share, abs=0.12)
        assert heads.confidence > 0.4


@pytest.mark.parametrize("kind", KINDS)
def test_a_drive_drawn_track_by_track_is_told_whichever_way_it_was_read(kind: str) -> None:
    """Another generator than the one above; whole, sampled, in windows, and until the time ended."""
    wrong = []
    for way in WAYS:
        for seed in range(6):
            made = tracked(kind, way, 500 + seed)
            found = judge_map(made.map, sector_size=made.disk.sector, disk_sectors=made.disk.sectors)
            assert found.unreadable_sectors == made.unreadable
            if found.pattern != kind:
                wrong.append((way, 500 + seed, found.pattern, made.more))
    assert len(wrong) <= 3, wrong


@pytest.mark.parametrize("way", ["whole", "windows", "budget"])
def test_where_stripes_are_seen_their_share_and_period_are_those_of_the_tracks(way: str) -> None:
    near = Counter[str]()
    for seed in range(12):
        made = tracked("one-head", way, 700 + seed)
        heads = judge_map(made.map, sector_size=made.disk.sector, disk_sectors=made.disk.sectors).heads
        if heads is None or made.period is None or made.share is None:
            continue
        near["told"] += 1
        near["share"] += abs(heads.share - made.share) <= 0.035
        near["period"] += heads.period is not None and abs(heads.period / made.period - 1.0) <= 0.1
    assert near["told"] >= 8, near
    assert min(near["share"], near["period"]) >= 0.75 * near["told"], near


def test_blocks_further_apart_than_a_period_show_a_share_and_no_period() -> None:
    shares = []
    for seed in range(30):
        made = tracked("one-head", "sampled", 900 + seed)
        if made.period is not None or made.more["failing"] or not made.map.state.any():
            continue
        heads = judge_map(made.map, sector_size=made.disk.sector, disk_sectors=made.disk.sectors).heads
        assert heads is not None
        shares.append(abs(heads.share - (made.share or 0.0)))
        step = float(np.median(np.diff(made.map.lba)))
        assert heads.period is None or heads.period > 2 * step
    assert len(shares) >= 3
    assert np.median(shares) <= 0.03


@pytest.mark.parametrize("rows", ["a row for each block", "one long row", "no rows"])
@pytest.mark.parametrize("share", [0.1, 0.3, 0.6, 0.95])
def test_the_time_left_of_a_drive_drawn_track_by_track(rows: str, share: float) -> None:
    """Also early, where what was read tells nothing of the inner tracks, and where what is left is one row."""
    ratios = []
    for seed in range(16):
        made = tracked("clean", "whole", 5000 + seed)
        many, own = int(len(made.map) * share), made.map
        state, ms = own.state.copy(), own.ms.copy()
        state[many:], ms[many:] = LEFT, 0.0
        if rows == "a row for each block":
            part = ReadMap(own.lba, own.sectors, ms, state)
        else:
            kept = slice(0, many + (rows == "one long row"))
            sectors = own.sectors.copy()
            sectors[many] = made.disk.sectors - own.lba[many]
            part = ReadMap(own.lba[kept], sectors[kept], ms[kept], state[kept])
        left = judge_map(part, sector_size=made.disk.sector, disk_sectors=made.disk.sectors).seconds_left
        assert left is not None
        ratios.append(left / (float(own.ms[many:].sum()) / 1000.0))
    assert np.mean(np.abs(np.array(ratios) - 1.0) <= 0.15) >= 0.85, ratios


def test_the_time_left_holds_nine_times_in_ten() -> None:
    ratios = []
    for seed in range(40):
        made = drawn("clean", seed, flash=seed % 3 == 0, budget=(0.3, 0.5, 0.8)[seed % 3])
        left = judge_map(made.map).seconds_left
        assert left is not None
        ratios.append(left / made.seconds_left)
    assert np.mean((np.array(ratios) > 0.8) & (np.array(ratios) < 1.25)) >= 0.9, ratios


def test_speed_is_that_of_the_outer_and_the_inner_end() -> None:
    made = drawn("clean", 3)
    found = judge_map(made.map)
    assert found.outer_mb_s is not None
    assert found.inner_mb_s is not None
    assert 0.35 < found.inner_mb_s / found.outer_mb_s < 0.65
    assert judge_map(drawn("clean", 3, budget=0.5).map).inner_mb_s is None, "nobody was there"


def test_a_read_in_any_order_says_the_same_and_the_last_word_on_a_place_counts() -> None:
    made = drawn("spreading", 4)
    mixed = np.random.default_rng(1).permutation(len(made.map))
    shuffled = ReadMap(made.map.lba[mixed], made.map.sectors[mixed], made.map.ms[mixed], made.map.state[mixed])
    one, other = judge_map(made.map), judge_map(shuffled)
    assert (one.pattern, one.unreadable_sectors, one.patches) == (
        other.pattern,
        other.unreadable_sectors,
        other.patches,
    )
    again = ReadMap(
        *(np.concatenate([column, column]) for column in (made.map.lba, made.map.sectors)),
        np.concatenate([made.map.ms, np.ones(len(made.map))]),
        np.concatenate([made.map.state, np.full(len(made.map), READ, np.int8)]),
    )
    assert judge_map(again).unreadable_sectors == 0


def test_a_million_blocks_are_judged_in_seconds() -> None:
    """A guard; bench/ holds the figures up to a hundred million."""
    n = 1_000_000
    rng = np.random.default_rng(2)
    big = ReadMap(np.arange(n) * 256, np.full(n, 256), rng.normal(0.9, 0.02, n), np.zeros(n, np.int8))
    begun = time.perf_counter()
    assert judge_map(big).pattern == "clean"
    assert time.perf_counter() - begun < 30, "not a measure: a guard against what grows with the square"


BAD = {
    "no header": (b"0,8,1.0,read\n", "line 1: expected the header"),
    "no rows": (b"lba,sectors,ms,state\n", "line 2: expected at least one block, got nothing"),
    "text for a number": (
        b"lba,sectors,ms,state\n0,8,1.0,read\n8,eight,1.0,read\n",
        "line 3: expected a count of sectors",
    ),
    "negative time": (b"lba,sectors,ms,state\n0,8,-1.0,read\n", "line 2: expected milliseconds"),
    "negative place": (b"lba,sectors,ms,state\n-8,8,1.0,read\n", "line 2: expected a sector number"),
    "unknown state": (
        b"lba,sectors,ms,state\n0,8,1.0,gone\n",
        "line 2: expected one of read, unreadable, left, got 'gone'",
    ),
    "a cell too few": (b"lba,sectors,ms,state\n0,8,1.0,read\n8,8,read\n", "line 3: expected lba,sectors,ms,state"),
    "half a sector": (b"lba,sectors,ms,state\n0,8.5,1.0,read\n", "line 2: expected a count of sectors"),
    "a number for a state": (b"lba,sectors,ms,state\n0,8,1.0,1\n", "line 2: expected one of read"),
    "a point alone": (b"lba,sectors,ms,state\n0,8,1.0,read\n8,8,.,read\n", "line 3: expected milliseconds"),
    "no place": (b"lba,sectors,ms,state\n,8,1.0,read\n", "line 2: expected a sector number"),
    "two points": (b"lba,sectors,ms,state\n0,8,1.0.1,read\n", "line 2: expected milliseconds"),
    "a long number": (b"lba,sectors,ms,state\n0,12345678901234567890,1,read\n", "line 2: expected a count"),
    "not a number": (b"lba,sectors,ms,state\n0,8,nan,read\n", "line 2: expected milliseconds"),
    "binary": (b"\x00\xff" * 40, "line 1: expected the header"),
    "empty": (b"", "line 1: expected the header"),
}


@pytest.mark.parametrize("name", BAD)
def test_a_map_that_cannot_be_used_is_told_by_its_line(name: str) -> None:
    data, said = BAD[name]
    with pytest.raises(MapError, match=r"line \d") as refused:
        read_map(data)
    assert said in str(refused.value)


def test_a_map_reads_back_as_it_was_written() -> None:
    made = drawn("isolated-unreadable", 2, blocks=500, budget=0.7)
    back = read_map(as_csv(made.map))
    assert (back.lba == made.map.lba).all()
    assert (back.state == made.map.state).all()
    assert np.allclose(back.ms, made.map.ms, atol=1e-3)
    assert (back.state == LEFT).any()


def test_the_command_gives_the_contracts_document(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    made = drawn("isolated-unreadable", 5, blocks=2000)
    place = tmp_path / "map.csv"
    place.write_bytes(as_csv(made.map))
    assert main(["surface", str(place), "--disk-sectors", str(made.disk_sectors)]) == 0
    found = json.loads(capsys.readouterr().out)
    assert set(found) == {"pattern", "weights", "unreadable_sectors", "patches", "heads", "speed", "seconds_left"}
    assert set(found["weights"]) == set(OUTCOMES)
    assert found["pattern"] == "isolated-unreadable"
    assert all(p["kind"] in ("slow", "unreadable", "mixed") and p["first"] <= p["last"] for p in found["patches"])
    for more, said in (
        (["--disk-sectors", "10"], "within 10 sectors"),
        (["--sector-size", "500"], "--sector-size"),
        ([], ""),
    ):
        if said:
            assert main(["surface", str(place), *more]) == 2
            assert said in capsys.readouterr().err
    assert main(["surface", str(tmp_path / "none.csv")]) == 2


@pytest.mark.parametrize("size", [1, 7, 64, 1000, 10**6])
def test_a_text_in_chunks_is_the_same_map(size: int) -> None:
    own = drawn("isolated-unreadable", 3, blocks=400, budget=0.7)
    text = as_csv(own.map)
    parts = list(read_parts(text[at : at + size] for at in range(0, len(text), size)))
    whole, again = read_map(text), merge_maps(parts)
    assert all((getattr(whole, name) == getattr(again, name)).all() for name in ("lba", "sectors", "ms", "state"))


def test_a_fault_in_a_later_chunk_is_told_by_its_line() -> None:
    text = b"lba,sectors,ms,state\n" + b"0,8,1.0,read\n" * 100 + b"8,8,soon,read\n"
    with pytest.raises(MapError, match=r"^line 102: expected milliseconds"):
        list(read_parts(text[at : at + 50] for at in range(0, len(text), 50)))


@pytest.mark.parametrize("text", [
    "0,8,1e1,read", " 0 , 8 , 10 , read ", "0,8,10.0,read\n", "0,8,,left\n8,8,10,read",
])  # fmt: skip
def test_numbers_and_words_are_read_as_people_write_them(text: str) -> None:
    found = read_map(f"lba,sectors,ms,state\n{text}".encode())
    assert (found.ms[-1], found.state[-1]) == (10.0, READ)


def test_digits_alone_are_the_numbers_that_any_other_way_of_writing_gives() -> None:
    rng = np.random.default_rng(8)
    rows = [
        (
            int(rng.integers(0, 1 << rng.integers(1, 48))),
            int(rng.integers(1, 1 << 24)),
            f"{rng.random() * 10 ** rng.integers(0, 9):.{rng.integers(0, 5)}f}",
            "read",
        )
        for _ in range(3000)
    ]
    plain = read_map(("lba,sectors,ms,state\n" + "".join(f"{a},{b},{c},{d}\n" for a, b, c, d in rows)).encode())
    other = read_map(("lba,sectors,ms,state\n" + "".join(f"+{a},{b},{c}e0,{d}\n" for a, b, c, d in rows)).encode())
    for name in ("lba", "sectors", "ms", "state"):
        assert (getattr(plain, name) == getattr(other, name)).all(), name
    assert plain.ms.tolist() == [float(c) for _, _, c, _ in rows]


@pytest.mark.parametrize("kind", KINDS)
def test_a_map_that_comes_in_parts_is_joined_on_the_way_and_says_the_same(kind: str) -> None:
    own = drawn(kind, 21, blocks=60_000)
    parts = [
        ReadMap(*(getattr(own.map, name)[at : at + 1700] for name in ("lba", "sectors", "ms", "state")))
        for at in range(0, len(own.map), 1700)
    ]
    whole, fewer = compact(iter(parts)), compact(iter(parts), 6_000)
    assert (whole.lba == own.map.lba).all()
    assert len(fewer) < len(own.map) / 2 or kind in ("one-head", "stalled")
    assert (fewer.sectors.sum(), round(fewer.ms.sum())) == (own.map.sectors.sum(), round(own.map.ms.sum()))
    assert judge_map(fewer, disk_sectors=own.disk_sectors).pattern == kind


@pytest.mark.parametrize("kind", KINDS)
def test_good_neighbours_that_are_joined_change_no_verdict(kind: str) -> None:
    own = drawn(kind, 12, blocks=60_000)
    fewer = coarser(own.map, 10_000)
    assert len(fewer) < len(own.map) / 2 or kind in ("one-head", "stalled")
    assert (fewer.sectors.sum(), round(fewer.ms.sum())) == (own.map.sectors.sum(), round(own.map.ms.sum()))
    assert (fewer.sectors[fewer.state == UNREADABLE].sum()) == own.bad_sectors
    assert (
        judge_map(fewer, disk_sectors=own.disk_sectors).pattern
        == judge_map(own.map, disk_sectors=own.disk_sectors).pattern
        == kind
    )


@pytest.mark.parametrize("rows", range(1, 12))
def test_a_map_of_a_few_blocks_of_any_kind_has_a_verdict(rows: int) -> None:
    """What was read before the first pause may be shorter than anything that looks at neighbours."""
    for number in range(60):
        rng = np.random.default_rng(number)
        state = rng.choice([READ, UNREADABLE, LEFT], rows).astype(np.int8)
        found = judge_map(
            ReadMap(np.arange(rows) * 2048, np.full(rows, 2048), rng.uniform(5, 3000, rows), state),
            sector_size=512,
            disk_sectors=10_000_000 if number % 2 else None,
        )
        assert found.unreadable_sectors == 2048 * int((state == UNREADABLE).sum())
        assert found.pattern is None or found.pattern in OUTCOMES
        assert found.seconds_left is None or found.seconds_left >= 0.0


@pytest.mark.parametrize("ends_in_stripe", [False, True])
def test_a_read_that_ends_in_a_stripe_of_quick_errors_is_no_drive_that_is_gone(ends_in_stripe: bool) -> None:
    state = np.zeros(4000, dtype=np.int8)
    for at in range(100, 4000, 200):
        state[at : at + 60] = UNREADABLE
    state[-40:] = UNREADABLE if ends_in_stripe else READ
    ms = np.where(state == UNREADABLE, 2.0, 7.0)
    found = judge_map(ReadMap(np.arange(4000) * 2048, np.full(4000, 2048), ms, state), disk_sectors=4000 * 2048)
    assert found.pattern == "one-head"
    gone = np.where(np.arange(4000) < 900, READ, UNREADABLE).astype(np.int8)
    quick = np.where(gone == UNREADABLE, 2.0, 7.0)
    assert judge_map(ReadMap(np.arange(4000) * 2048, np.full(4000, 2048), quick, gone)).pattern == "stalled"


def test_where_nothing_was_tried_nothing_is_said_for_any_pattern() -> None:
    found = judge_map(
        ReadMap(np.arange(50) * 2048, np.full(50, 2048), np.zeros(50), np.full(50, LEFT, dtype=np.int8)),
        sector_size=512,
        disk_sectors=None,
    )
    assert set(found.weights.values()) == {round(1 / len(OUTCOMES), 4)}


def test_what_was_left_may_be_one_row_as_long_as_the_disk() -> None:
    rest = (22 << 40) // 512 - 2048 * 300
    rows = [f"{2048 * n},2048,{9 + n % 3},read" for n in range(300)] + [f"{2048 * 300},{rest},,left"]
    found = judge_map(
        read_map(("lba,sectors,ms,state\n" + "\n".join(rows) + "\n").encode()), disk_sectors=rest + 614_400
    )
    assert found.unreadable_sectors == 0
    assert found.seconds_left is not None
    assert found.seconds_left > 86_400
    with pytest.raises(MapError, match="a count of sectors"):
        read_map(f"lba,sectors,ms,state\n0,{rest},10,read\n".encode())
