"""Two processes on one database: nothing is lost, nothing is written over, and each sees the other."""

from __future__ import annotations

from pathlib import Path

from gatecheck.server.bench import Bench
from gatecheck.server.run import make_bench


def tape(bench: Bench, ticket: int) -> list[str]:
    return [e.body["note"] for e in bench.ticket(ticket).tape]


def test_two_benches_over_one_folder_share_their_tickets(tmp_path: Path) -> None:
    one, two = make_bench(tmp_path), make_bench(tmp_path)
    ticket = one.take_in(customer="c", machine="m", words="", facts={}, entries=[], bay=2, by="KT").id
    for number in range(6):
        bench = (one, two)[number % 2]
        bench.append(ticket, {"note": f"n{number}"}, by=("KT", "MO")[number % 2])
    expected = [f"n{number}" for number in range(6)]
    assert tape(one, ticket) == tape(two, ticket) == expected
    assert [e.made_by for e in one.ticket(ticket).tape] == ["KT", "MO"] * 3
    assert [r.id for r in two.overview().rows] == [ticket]
    for bench in (one, two):
        bench.database.close()


def test_a_bench_opened_again_finds_everything(tmp_path: Path) -> None:
    bench = make_bench(tmp_path)
    ticket = bench.take_in(
        customer="c",
        machine="m",
        words="w",
        facts={"data": "none"},
        entries=[{"move": "screen", "outcome": "dead"}],
        bay=1,
        by="KT",
    )
    digest = bench.files.put(b"x" * 64)
    bench.database.close()
    again = make_bench(tmp_path)
    found = again.ticket(ticket.id)
    assert found == ticket
    assert again.files.get(digest) == b"x" * 64
    again.database.close()


def test_a_moved_ticket_frees_its_bay(tmp_path: Path) -> None:
    bench = make_bench(tmp_path)
    first = bench.take_in(customer="a", machine="m", words="", facts={}, entries=[], bay=1, by="KT")
    bench.move_to_bay(first.id, None)
    second = bench.take_in(customer="b", machine="m", words="", facts={}, entries=[], bay=1, by="KT")
    assert {r.id: r.bay for r in bench.overview().rows} == {first.id: None, second.id: 1}
    bench.hand_over(second.id)
    bench.move_to_bay(first.id, 1)
    assert [r.bay for r in bench.overview().rows] == [1]
    bench.database.close()
