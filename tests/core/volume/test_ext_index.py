"""Sums of names and the index of a large folder of ext. The sums are those that Debian's `debugfs` gives
(`dx_hash`)."""

from __future__ import annotations

import struct
from collections.abc import Callable

import pytest

from gatecheck.core.volume.ext.htree import HALF_MD4, LEGACY, TEA, FolderIndex, name_sums

BLOCK = 1024
SEED = bytes.fromhex("0123456789abcdef0123456789abcdef")
NAMES = [f"picture {n:04d}.jpg".encode() for n in range(40)]


@pytest.mark.parametrize(
    ("name", "kind", "expected"),
    [
        ("abc", LEGACY, 0x75AFD992),
        ("abc", HALF_MD4, 0xD196A868),
        ("abc", TEA, 0xB1435EC4),
        ("größe", HALF_MD4, 0xA759A98E),
        ("größe", HALF_MD4 + 3, 0x10EAF0CC),
        ("größe", LEGACY, 0x9D040690),
        ("größe", LEGACY + 3, 0x098D2490),
        ("größe", TEA, 0xCC8FD112),
        ("größe", TEA + 3, 0x2E177714),
    ],
)
def test_sums_are_those_of_the_systems_own_tool(name: str, kind: int, expected: int) -> None:
    assert name_sums([name.encode()], kind, bytes(16)).tolist() == [expected]


def test_names_of_many_lengths_are_summed_as_each_alone() -> None:
    names = [b"x" * n for n in (1, 31, 32, 33, 255, 3, 1)]
    assert name_sums(names, HALF_MD4, SEED).tolist() == [int(name_sums([name], HALF_MD4, SEED)[0]) for name in names]


def leaves() -> tuple[list[list[bytes]], list[int]]:
    """Names by their sums in two blocks, and where the second begins."""
    sums = name_sums(NAMES, HALF_MD4, SEED).tolist()
    in_order = [name for _, name in sorted(zip(sums, NAMES, strict=True))]
    return [in_order[:20], in_order[20:]], [0, sorted(sums)[20]]


def root(
    edges: list[int], *, count: int | None = None, most: int = 124, deep: int = 0, blocks: tuple[int, ...] = (1, 2)
) -> bytes:
    entries = b"".join(struct.pack("<II", edge, block) for edge, block in zip(edges, blocks, strict=True))
    head = bytes(24) + struct.pack("<IBBBB", 0, HALF_MD4, 8, deep, 0)
    return (head + struct.pack("<HH", most, count if count is not None else len(edges)) + entries[4:]).ljust(
        BLOCK, b"\0"
    )


def problem(head: bytes, named: list[list[bytes]]) -> str:
    own = FolderIndex(block=BLOCK, seed=SEED, unsigned=False, tailed=False, has_deep=False, is_plain=True)
    own.take(head, [], is_node=True)
    for names in named:
        own.take(bytes(BLOCK), names, is_node=False)
    return own.problem()


CASES: dict[str, tuple[Callable[[], str], str]] = {
    "as it should be": (lambda: problem(root(leaves()[1]), leaves()[0]), ""),
    "a name in the wrong block": (
        lambda: problem(root(leaves()[1]), [[*leaves()[0][0], leaves()[0][1][-1]], leaves()[0][1]]),
        "places",
    ),
    "edges out of order": (lambda: problem(root([0, 0x80000000, 0x100], blocks=(1, 2, 3)), [[], [], []]), "order"),
    "a block twice": (lambda: problem(root(leaves()[1], blocks=(1, 1)), leaves()[0]), "blocks"),
    "a block past the end": (lambda: problem(root(leaves()[1], blocks=(1, 9)), leaves()[0]), "blocks"),
    "a block that nothing leads to": (lambda: problem(root(leaves()[1]), [*leaves()[0], []]), "unreferenced"),
    "too many entries": (lambda: problem(root(leaves()[1], count=500), leaves()[0]), "count"),
    "another room": (lambda: problem(root(leaves()[1], most=100), leaves()[0]), "count"),
    "too deep": (lambda: problem(root(leaves()[1], deep=2), leaves()[0]), "depth"),
    "no root": (lambda: problem(b"\xff" * BLOCK, leaves()[0]), "root"),
}


@pytest.mark.parametrize("name", CASES)
def test_what_is_wrong_with_an_index(name: str) -> None:
    ask, expected = CASES[name]
    assert ask() == expected
