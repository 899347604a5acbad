"""Encrypted volumes: opened with their keys, byte for byte, and by nothing else."""

from __future__ import annotations

import hashlib
import random
import struct
from collections.abc import Callable
from functools import cache
from uuid import UUID

import pytest
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

from gatecheck.core.disk.sectors import CapturedSectors, sectors_of
from gatecheck.core.disk.where import places_of
from gatecheck.core.errors import DecodeError, InputError
from gatecheck.core.locked.ciphers import Cbc, Diffused, UnitCipher, Xts, offset_vectors, plain_vectors
from gatecheck.core.locked.encode import (
    Protection,
    luks1,
    luks2,
    noise,
    recovery_text,
    startup_file,
    windows_volume,
)
from gatecheck.core.locked.find import locked_at
from gatecheck.core.locked.keys import key_of, recovery_password, wrong_groups
from gatecheck.core.locked.model import Locked
from gatecheck.core.locked.sectors import WithOpened
from gatecheck.core.volume.check import check
from memory_disk import Memory

KIB, MIB = 1 << 10, 1 << 20
TYPED = recovery_text(noise("recovery", 16))
WORDS, STARTUP = b"counter words", noise("startup", 32)
WAYS = [
    Protection(UUID(int=1), "tpm"),
    Protection(UUID(int=2), "recovery-password", key_of(TYPED.encode())),
    Protection(UUID(int=3), "passphrase", key_of(WORDS)),
    Protection(UUID(int=4), "startup-key", startup=STARTUP),
]
ID = {way.how: str(way.id).upper() for way in WAYS}
PLACES = (512 * KIB, 1024 * KIB, 1536 * KIB)
MOVED = PLACES[0] + 64 * KIB


@cache
def plain(size: int = 2 * MIB) -> bytes:
    whole = bytearray(noise("plain", size))
    for place in PLACES:
        whole[place : place + 64 * KIB] = bytes(64 * KIB)
    whole[MOVED : MOVED + 8 * KIB] = bytes(8 * KIB)
    return bytes(whole)


@cache
def windows(
    method: int = 0x8004, unit: int = 512, to_go: bool = False, encrypted: int | None = None, ways: int = 3
) -> bytes:
    """`ways`: the first of them that it has; those of text cost a million rounds each."""
    return windows_volume(
        plain(), WAYS[ways:], method=method, unit=unit, to_go=to_go, places=PLACES, encrypted=encrypted
    )


def found(volume: bytes, **more: int) -> Locked:
    own = locked_at(sectors_of(volume), 0, len(volume) // 512 - 1, **more)
    assert own is not None
    return own


def inside(own: Locked, key: bytes | None) -> bytes:
    opened = own.open(None if key is None else key_of(key)).inside
    span = opened.read(0, opened.length)
    assert not span.missing
    return span.data


@pytest.mark.parametrize(
    ("method", "unit"), [(m, u) for m in range(0x8000, 0x8006) for u in (512, 4096) if u == 512 or m & 1 == 0]
)
def test_every_method_gives_back_every_byte(method: int, unit: int) -> None:
    own = found(windows(method, unit))
    assert own.sector == unit
    assert inside(own, startup_file(WAYS[3].id, STARTUP)) == plain()


@pytest.mark.parametrize(
    ("key", "how"),
    [
        (TYPED.encode(), "recovery-password"),
        (TYPED.replace("-", "").encode() + b"\r\n", "recovery-password"),
        (b"\xff\xfe" + TYPED.encode("utf-16-le"), "recovery-password"),
        (WORDS + b"\nanother line", "passphrase"),
        (startup_file(WAYS[3].id, STARTUP), "startup-key"),
    ],
    ids=["typed", "without dashes", "saved in UTF-16", "passphrase", "startup key file"],
)
def test_each_key_opens_by_its_own_way(key: bytes, how: str) -> None:
    own = found(windows(ways=0))
    assert own.open(key_of(key)).by == ID[how]
    assert [(p.how, p.opens) for p in own.protectors] == [
        ("tpm", False), ("recovery-password", True), ("passphrase", True), ("startup-key", True),
    ]  # fmt: skip


def test_a_suspended_volume_opens_without_a_key() -> None:
    ways = [Protection(UUID(int=9), "clear-key", startup=noise("clear", 32))]
    own = found(windows_volume(plain(), ways, places=PLACES))
    assert (own.state, own.needs_key) == ("suspended", False)
    assert inside(own, None) == plain()


def test_the_one_for_removable_drives_is_known_by_its_other_header() -> None:
    assert inside(found(windows(to_go=True)), startup_file(WAYS[3].id, STARTUP)) == plain()


def test_one_for_removable_drives_is_locked_not_a_fat() -> None:
    raw = windows(to_go=True)
    report = check(Memory(bytes(raw)), 0, len(raw) // 512 - 1)
    assert [f.id for f in report.findings] == ["locked"]
    assert {p.stakes for p in places_of(Memory(bytes(raw)), [5000])} == {"file"}


def test_both_halves_are_read_where_encryption_is_under_way() -> None:
    own = found(windows(encrypted=MIB + 128 * KIB))
    assert own.state == "converting"
    assert inside(own, startup_file(WAYS[3].id, STARTUP)) == plain()


def test_encryption_on_write_is_refused_in_words() -> None:
    volume = bytearray(windows())
    for place in PLACES:
        volume[place + 12 : place + 14] = struct.pack("<H", 3)
    with pytest.raises(InputError, match="encrypted as it is written"):
        found(bytes(volume)).open(key_of(startup_file(WAYS[3].id, STARTUP)))


@pytest.mark.parametrize("hurt", [PLACES[:1], PLACES[1:], PLACES[:2]])
def test_the_best_of_three_copies_is_taken_and_damage_said(hurt: tuple[int, ...]) -> None:
    volume = bytearray(windows())
    for place in hurt:
        volume[place + 90] ^= 1
    own = found(bytes(volume))
    assert (own.hurt, own.copies, own.id) == (len(hurt), 3, found(windows()).id)
    assert inside(own, startup_file(WAYS[3].id, STARTUP)) == plain()


def test_metadata_that_is_gone_is_said() -> None:
    volume = bytearray(windows())
    for place in PLACES:
        volume[place : place + 512] = bytes(512)
    with pytest.raises(DecodeError, match="metadata"):
        found(bytes(volume))


@pytest.mark.parametrize(
    ("key", "says"),
    [
        (b"other words", "got another passphrase"),
        (
            startup_file(UUID(int=77), noise("x", 32)),
            "got another startup key file 00000000-0000-0000-0000-00000000004D",
        ),
    ],
)
def test_a_wrong_key_is_told_with_the_ids(key: bytes, says: str) -> None:
    with pytest.raises(InputError, match=says) as told:
        found(windows(ways=0)).open(key_of(key))
    assert ID["recovery-password"] in str(told.value)
    assert key.decode("latin-1")[:11] not in str(told.value)


def test_a_wrong_group_is_named_as_it_is_typed() -> None:
    groups = TYPED.split("-")
    groups[4] = f"{int(groups[4]) + 1:06d}"
    assert wrong_groups("-".join(groups)) == [5]
    assert wrong_groups("-".join(groups)[:31]) == []
    with pytest.raises(InputError, match="another group 5") as told:
        recovery_password("-".join(groups))
    assert groups[4] not in str(told.value)
    with pytest.raises(InputError, match="expected 8 groups of 6 digits, got 7"):
        recovery_password("-".join(TYPED.split("-")[:7]))


@pytest.mark.parametrize(
    ("made", "sector", "kind"),
    [
        (lambda: luks1(plain(), [b"first", WORDS]), 512, "luks1"),
        (lambda: luks1(plain(), [WORDS], cipher="aes-cbc-essiv:sha256", hash="sha1"), 512, "luks1"),
        (lambda: luks2(plain(), [b"first", WORDS]), 512, "luks2"),
        (lambda: luks2(plain(), [WORDS], unit=4096, kdf="argon2i"), 4096, "luks2"),
        (lambda: luks2(plain(), [WORDS], cipher="aes-cbc-essiv:sha256", kdf="pbkdf2", tweak=77), 512, "luks2"),
    ],
)
def test_linux_volumes_give_back_every_byte(made: Callable[[], bytes], sector: int, kind: str) -> None:
    volume = made()
    own = found(volume)
    assert (own.kind, own.sector, own.size) == (kind, sector, len(plain()))
    assert inside(own, WORDS) == plain()
    with pytest.raises(InputError, match="got another passphrase"):
        own.open(key_of(b"no"))


@pytest.mark.parametrize("place", [0, 0x4000])
def test_one_copy_of_a_header_is_enough(place: int) -> None:
    volume = bytearray(luks2(plain(), [WORDS]))
    volume[place : place + 4096] = noise("hurt", 4096)
    own = found(bytes(volume))
    assert own.hurt == 1
    assert inside(own, WORDS) == plain()


def test_a_key_that_asks_for_more_memory_than_there_is_says_so() -> None:
    with pytest.raises(InputError, match="got 64 MiB that this key asks for"):
        found(luks2(b"\0" * 4096, [WORDS], memory=64 * KIB), memory=32 * MIB).open(key_of(WORDS))


@pytest.mark.parametrize("kind", ["reencrypt", "integrity", "requirements"])
def test_what_is_not_opened_here_says_why(kind: str) -> None:
    volume = luks2(b"\0" * 4096, [WORDS])
    old, new = {
        "reencrypt": (b'"type": "luks2"', b'"type":"reencrypt"'),
        "integrity": (b'"sector_size": 512', b'"integrity":{"a":1}'),
        "requirements": (b'"json_size": "12288"', b'"requirements":["x"]'),
    }[kind]
    for place in (0, 0x4000):
        raw = bytearray(volume[place : place + 0x4000].replace(old, new, 1)[:0x4000].ljust(0x4000, b"\0"))
        raw[448:512] = bytes(64)
        raw[448:480] = hashlib.sha256(raw).digest()
        volume = volume[:place] + bytes(raw) + volume[place + 0x4000 :]
    with pytest.raises(InputError, match="opened here"):
        found(volume).open(key_of(WORDS))


@pytest.mark.parametrize("unit", [512, 1024, 4096])
@pytest.mark.parametrize("size", [32, 64])
def test_xts_is_that_of_the_library(unit: int, size: int) -> None:
    key, data, first = noise("xts", size), noise("data", unit * 700), (1 << 33) + 5
    own = b"".join(
        Cipher(algorithms.AES(key), modes.XTS((first + n).to_bytes(16, "little")))
        .decryptor()
        .update(data[n * unit : (n + 1) * unit])
        for n in range(700)
    )
    assert Xts(key, unit).decrypt(first, data) == own
    assert Xts(key, unit).encrypt(first, own) == data


@pytest.mark.parametrize(
    "cipher",
    [
        Cbc(noise("a", 32), 512, offset_vectors(noise("a", 32), 512)),
        Cbc(noise("a", 16), 4096, plain_vectors(8, 3, 64)),
        Diffused(noise("a", 16), noise("b", 16), 512),
        Diffused(noise("a", 32), noise("b", 32), 4096),
    ],
)
def test_what_is_encrypted_is_decrypted(cipher: UnitCipher) -> None:
    data = noise("units", cipher.unit * 9)
    assert cipher.decrypt(1000, cipher.encrypt(1000, data)) == data
    assert cipher.decrypt(1001, cipher.encrypt(1000, data)) != data


def test_cbc_is_that_of_the_library() -> None:
    key, data = noise("cbc", 32), noise("units", 512 * 5)
    vectors = plain_vectors(1, 0, 64)(7, 5)
    own = b"".join(
        Cipher(algorithms.AES(key), modes.CBC(vectors[16 * n : 16 * n + 16]))
        .decryptor()
        .update(data[512 * n : 512 * n + 512])
        for n in range(5)
    )
    assert Cbc(key, 512, plain_vectors(1, 0, 64)).decrypt(7, data) == own


@pytest.mark.parametrize(("method", "unit", "lost"), [(0x8004, 512, 1), (0x8004, 4096, 1), (0x8002, 4096, 8)])
def test_an_unreadable_sector_stays_one(method: int, unit: int, lost: int) -> None:
    """And takes nothing else away: of units that hang together, the unit."""
    volume, bad = windows(method, unit), 300
    ranges = {0: volume[: bad * 512], bad + 1: volume[(bad + 1) * 512 :]}
    disk = CapturedSectors(ranges, sector=512, length=len(volume) // 512, unreadable=[bad])
    own = locked_at(disk, 0, len(volume) // 512 - 1)
    assert own is not None
    opened = own.open(key_of(startup_file(WAYS[3].id, STARTUP))).inside
    for first, count in ((0, 4096), (298, 5), (300, 1), (296, 8)):
        span = opened.read(first, count)
        right = bytearray(plain()[first * 512 : (first + count) * 512])
        for lba in span.missing:
            right[(lba - first) * 512 : (lba - first + 1) * 512] = bytes(512)
        assert span.data == bytes(right)
        assert bad in span.missing
    assert set(opened.read(0, 4096).missing) == set(range(bad - bad % lost, bad - bad % lost + lost))


def test_the_relocated_first_part_is_mapped_both_ways() -> None:
    own = found(windows()).open(key_of(startup_file(WAYS[3].id, STARTUP)))
    moved = MOVED // 512
    assert own.inside.source_of(3) == moved + 3
    assert own.inside.inside_of(moved + 3) == 3
    assert own.inside.source_of(PLACES[1] // 512) is None
    assert own.inside.inside_of(4000) == 4000


def test_a_disk_is_seen_with_its_volume_open() -> None:
    volume = luks2(plain(), [WORDS])
    whole = noise("before", 512 * 64) + volume + noise("behind", 512 * 64)
    disk, first, last = sectors_of(whole), 64, 64 + len(volume) // 512 - 1
    own = locked_at(disk, first, last)
    assert own is not None
    view = WithOpened(disk, first, last, own.open(key_of(WORDS)).inside)
    span = view.read(0, len(whole) // 512)
    ends = bytes(len(volume) - len(plain()))
    assert span.data == whole[: 512 * 64] + plain() + ends + whole[-512 * 64 :]
    assert view.place == (64, 64 + len(plain()) // 512 - 1)
    payload = (len(volume) - len(plain())) // 512
    assert [view.seen_at(lba) for lba in (5, 64 + payload, 64)] == [5, 64, None]


@pytest.mark.parametrize("seed", range(40))
def test_hostile_headers_end_in_words(seed: int) -> None:
    rng = random.Random(seed)
    volume = bytearray(rng.choice((windows(), luks2(bytes(8192), [WORDS]), luks1(bytes(8192), [WORDS]))))
    spots = [(0, 512), *((p, 700) for p in PLACES)] if volume[3:11] == b"-FVE-FS-" else [(0, 600), (4096, 900)]
    for _ in range(rng.choice((1, 4, 20))):
        start, room = rng.choice(spots)
        volume[start + rng.randrange(room)] = rng.randrange(256)
    try:
        own = locked_at(sectors_of(bytes(volume)), 0, len(volume) // 512 - 1, memory=64 * MIB)
        if own is not None and own.kind != "luks1":
            own.open(key_of(startup_file(WAYS[3].id, STARTUP) if own.kind.startswith("w") else b"no"))
    except (DecodeError, InputError):
        pass
