"""Two processes on one database: nothing is lost, nothing is written over, and each sees the other."""

from __future__ import annotations

from pathlib import Path

from gatecheck.server.services import Services, open_services


def tape(bench: Services, ticket: int) -> list[str]:
    return [e.body["note"] for e in bench.tickets.ticket(ticket).tape]


def test_two_benches_over_one_folder_share_their_tickets(tmp_path: Path) -> None:
    one, two = open_services(tmp_path), open_services(tmp_path)
    ticket = one.tickets.take_in(customer="c", machine="m", words="", facts={}, entries=[], bay=2, by="KT").id
    for number in range(6):
        bench = (one, two)[number % 2]
        bench.tickets.append(ticket, {"note": f"n{number}"}, by=("KT", "MO")[number % 2])
    expected = [f"n{number}" for number in range(6)]
    assert tape(one, ticket) == tape(two, ticket) == expected
    assert [e.made_by for e in one.tickets.ticket(ticket).tape] == ["KT", "MO"] * 3
    assert [r.id for r in two.bench.overview().rows] == [ticket]
    for bench in (one, two):
        bench.shop.database.close()


def test_a_bench_opened_again_finds_everything(tmp_path: Path) -> None:
    bench = open_services(tmp_path)
    ticket = bench.tickets.take_in(
        customer="c",
        machine="m",
        words="w",
        facts={"data": "none"},
        entries=[{"move": "screen", "outcome": "dead"}],
        bay=1,
        by="KT",
    )
    digest = bench.shop.files.put(b"x" * 64)
    bench.shop.database.close()
    again = open_services(tmp_path)
    found = again.tickets.ticket(ticket.id)
    assert found == ticket
    assert again.shop.files.get(digest) == b"x" * 64
    again.shop.database.close()


def test_a_moved_ticket_frees_its_bay(tmp_path: Path) -> None:
    bench = open_services(tmp_path)
    first = bench.tickets.take_in(customer="a", machine="m", words="", facts={}, entries=[], bay=1, by="KT")
    bench.tickets.move_to_bay(first.id, None)
    second = bench.tickets.take_in(customer="b", machine="m", words="", facts={}, entries=[], bay=1, by="KT")
    assert {r.id: r.bay for r in bench.bench.overview().rows} == {first.id: None, second.id: 1}
    bench.learning.hand_over(second.id)
    bench.tickets.move_to_bay(first.id, 1)
    assert [r.bay for r in bench.bench.overview().rows] == [1]
    bench.shop.database.close()
