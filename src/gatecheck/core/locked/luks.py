"""LUKS1 and LUKS2: headers and their second copy, key slots, the anti-forensic split, and where the inside stands.

LUKS1 On-Disk Format Specification 1.2.3; LUKS2 On-Disk Format Specification 1.1.3. Header fields are big-endian.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import json
import struct
from dataclasses import dataclass, field
from typing import Any

from cryptography.hazmat.primitives.kdf import argon2

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError, InputError
from gatecheck.core.locked.ciphers import Cbc, UnitCipher, Xts, hashed_vectors, plain_vectors
from gatecheck.core.locked.keys import Key
from gatecheck.core.locked.model import Locked, Opened, Protector, not_opened
from gatecheck.core.locked.sectors import CIPHERED, PLAIN, OpenedSectors, Stretch

MAGIC, SECOND = b"LUKS\xba\xbe", b"SKUL\xba\xbe"
_SECTOR = 512
_ACTIVE = 0x00AC71F3
_COPIES = (0x4000, 0x8000, 0x10000, 0x20000, 0x40000, 0x80000, 0x100000, 0x200000, 0x400000)
_LARGEST_HEADER, _MOST_STRIPES, _MOST_KEY = 4 << 20, 20_000, 512
_MOST_ROUNDS, _MOST_TURNS = 100_000_000, 10_000


@dataclass(frozen=True, slots=True)
class _Slot:
    """`kdf`: its name and numbers; `area`: byte of the volume."""

    id: str
    kdf: dict[str, Any]
    salt: bytes
    hash: str
    stripes: int
    area: int
    encryption: str
    area_key: int
    key: int
    unbound: bool = False


@dataclass(frozen=True, slots=True)
class _Digest:
    slots: tuple[str, ...]
    hash: str
    rounds: int
    salt: bytes = field(repr=False)
    digest: bytes = field(repr=False)


@dataclass(frozen=True, slots=True)
class _Segment:
    kind: str
    offset: int
    size: int | None
    encryption: str
    sector: int
    tweak: int


@dataclass(frozen=True, slots=True)
class _Header:
    version: int
    id: str
    slots: tuple[_Slot, ...]
    digests: tuple[_Digest, ...]
    segments: tuple[_Segment, ...]
    problem: str = ""


def read_luks(disk: Sectors, first: int, last: int, *, memory: int | None = None) -> Locked | None:
    """The LUKS volume there, None where there is none. `memory`: bytes that the bench has for Argon2. Raises
    DecodeError where no copy of the header can be read."""
    size = (last - first + 1) * disk.sector
    start = _bytes(disk, first, 0, min(4096, size)) or b""
    version = int.from_bytes(start[6:8], "big") if start[:6] == MAGIC else 0
    if version == 1:
        return LuksLocked(disk, first, size, _header1(start), 0, 1, memory)
    problems: list[DecodeError] = []
    found: list[tuple[int, _Header]] = []
    tried = 0
    places: list[tuple[int, bytes]] = [(0, MAGIC)] if version else []
    if version == 2:
        own = int.from_bytes(start[8:16], "big")
        places.append((own if own in _COPIES else _COPIES[0], SECOND))
    elif start[:6] != MAGIC or version not in (0, 2):
        places += [(place, SECOND) for place in _COPIES if place < size]
    for place, magic in places:
        head = _bytes(disk, first, place, 4096) if place + 4096 <= size else None
        if head is None or head[:6] != magic:
            if version == 2:
                tried += 1
                problems.append(DecodeError("LUKS2 header", at=place, expected=magic[:4].decode(), got="another"))
            continue
        tried += 1
        try:
            found.append(_header2(disk, first, place, head, size))
        except DecodeError as error:
            problems.append(error)
            if version != 2:
                continue
    if not found:
        if version and not problems:
            raise DecodeError("LUKS header", at=6, expected="version 1 or 2", got=version)
        if problems and version:
            raise problems[0]
        return None
    _, best = max(found, key=lambda pair: pair[0])
    copies = max(tried, 2)
    return LuksLocked(disk, first, size, best, copies - len(found), copies, memory)


def _bytes(disk: Sectors, first: int, at: int, count: int) -> bytes | None:
    """None where a sector of them is missing."""
    sector = disk.sector
    low, high = at // sector, -(-(at + count) // sector)
    span = disk.read(first + low, high - low)
    return None if span.missing else span.data[at - low * sector : at - low * sector + count]


def _text(raw: bytes) -> str:
    return raw.partition(b"\0")[0].decode("ascii", "replace")


def _header1(raw: bytes) -> _Header:
    name, mode, hash = _text(raw[8:40]), _text(raw[40:72]), _text(raw[72:104])
    payload, key = struct.unpack_from(">2I", raw, 104)
    digest, salt = raw[112:132], raw[132:164]
    rounds = int.from_bytes(raw[164:168], "big")
    if not 0 < key <= _MOST_KEY:
        raise DecodeError("LUKS1 header", at=108, expected=f"a key of 1 to {_MOST_KEY} bytes", got=key)
    slots = []
    for n in range(8):
        active, own = struct.unpack_from(">2I", raw, 208 + 48 * n)
        area, stripes = struct.unpack_from(">2I", raw, 208 + 48 * n + 40)
        if active == _ACTIVE:
            slots.append(
                _Slot(
                    str(n), {"type": "pbkdf2", "hash": hash, "iterations": own}, raw[216 + 48 * n : 248 + 48 * n], hash,
                    stripes, area * _SECTOR, f"{name}-{mode}", key, key,
                )
            )  # fmt: skip
    ids = tuple(slot.id for slot in slots)
    problem = "" if payload else "its header stands on another disk than its data"
    return _Header(
        1,
        _text(raw[168:208]),
        tuple(slots),
        (_Digest(ids, hash, rounds, salt, digest),),
        (_Segment("crypt", payload * _SECTOR, None, f"{name}-{mode}", _SECTOR, 0),),
        problem,
    )


def _header2(disk: Sectors, first: int, place: int, head: bytes, size: int) -> tuple[int, _Header]:
    """(sequence, header) of one copy."""
    what = "LUKS2 header"
    length, sequence = struct.unpack_from(">2Q", head, 8)
    if length not in _COPIES or place + length > size:
        raise DecodeError(what, at=place + 8, expected="a length of 16 KiB to 4 MiB", got=length)
    own = int.from_bytes(head[256:264], "big")
    if own != place:
        raise DecodeError(what, at=place + 256, expected=place, got=own)
    raw = _bytes(disk, first, place, length)
    if raw is None:
        raise DecodeError(what, at=place, expected="sectors that were read", got="unreadable ones")
    name = _text(head[72:104])
    right = _hash(name, what, place + 72)
    right.update(raw[:448] + bytes(64) + raw[512:])
    if not hmac.compare_digest(right.digest(), raw[448 : 448 + right.digest_size]):
        raise DecodeError(what, at=place + 448, expected="a right checksum", got="a wrong one")
    try:
        body = json.loads(raw[4096:].partition(b"\0")[0])
        return sequence, _from_json(_text(head[168:208]), body)
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError, binascii.Error) as error:
        raise DecodeError(
            what, at=place + 4096, expected="its description in JSON", got=type(error).__name__
        ) from error


def _hash(name: str, what: str, at: int) -> Any:
    try:
        return hashlib.new(name)
    except ValueError as error:
        raise DecodeError(what, at=at, expected="a hash that is known", got=name) from error


def _from_json(id: str, body: dict[str, Any]) -> _Header:
    slots = []
    bound = {str(s) for d in body["digests"].values() if d.get("segments") for s in d["keyslots"]}
    problem = ""
    for name, own in sorted(
        body["keyslots"].items(), key=lambda pair: (int(pair[1].get("priority", 1) == 0), int(pair[0]))
    ):
        if own["type"] == "reencrypt":
            problem = "its encryption is being changed"
        if own["type"] != "luks2":
            continue
        area, kdf = own["area"], own["kdf"]
        slots.append(
            _Slot(
                name, kdf, base64.b64decode(kdf["salt"]), own["af"]["hash"], int(own["af"]["stripes"]),
                int(area["offset"]), area["encryption"], int(area["key_size"]), int(own["key_size"]), name not in bound,
            )
        )  # fmt: skip
    digests = tuple(
        _Digest(
            tuple(map(str, d["keyslots"])), d["hash"], int(d["iterations"]), base64.b64decode(d["salt"]),
            base64.b64decode(d["digest"]),
        )
        for d in body["digests"].values()
        if d.get("segments") and d["type"] == "pbkdf2"
    )  # fmt: skip
    segments = []
    for _, own in sorted(body["segments"].items(), key=lambda pair: int(pair[0])):
        if "backup-" in " ".join(own.get("flags", ())):
            continue
        if own["type"] not in ("crypt", "linear"):
            problem = problem or f"it holds a part of kind {own['type']}"
        if own.get("integrity"):
            problem = problem or "its sectors carry checks of their own (integrity)"
        length = None if own["size"] == "dynamic" else int(own["size"])
        segments.append(
            _Segment(
                own["type"], int(own["offset"]), length, own.get("encryption", ""),
                int(own.get("sector_size", _SECTOR)), int(own.get("iv_tweak", 0)),
            )
        )  # fmt: skip
    needed = body.get("config", {}).get("requirements", {})
    mandatory = needed.get("mandatory", ()) if isinstance(needed, dict) else needed
    if mandatory:
        problem = problem or "it needs " + ", ".join(map(str, mandatory))
    if not segments:
        problem = problem or "it names no encrypted part"
    return _Header(2, id, tuple(slots), digests, tuple(segments), problem)


def made_cipher(encryption: str, key: bytes, unit: int, tweak: int) -> UnitCipher:
    """`encryption`: as dm-crypt writes it; sectors are numbered in 512 bytes whatever the unit. Raises DecodeError."""
    name, _, mode = encryption.partition("-")
    step = unit // _SECTOR
    chain, _, vector = mode.partition("-")
    if name == "aes" and len(key) in (32, 64) and chain == "xts" and vector in ("plain", "plain64"):
        return Xts(key, unit, step=step, offset=tweak, bits=32 if vector == "plain" else 64)
    if name == "aes" and len(key) in (16, 24, 32) and chain == "cbc":
        if vector in ("plain", "plain64"):
            return Cbc(key, unit, plain_vectors(step, tweak, 32 if vector == "plain" else 64))
        kind, _, hash = vector.partition(":")
        if kind == "essiv" and hash in ("sha256",):
            return Cbc(key, unit, hashed_vectors(key, hash, step, tweak))
    raise DecodeError(
        "LUKS cipher",
        at=0,
        expected="aes-xts-plain64, aes-cbc-essiv:sha256 or aes-cbc-plain64",
        got=f"{encryption} with a key of {len(key) * 8} bits",
    )


def merged(material: bytes, key: int, stripes: int, hash: str) -> bytes:
    """The key behind an anti-forensic split (LUKS1, 2.4)."""
    mix = bytes(key)
    for n in range(stripes):
        mix = bytes(a ^ b for a, b in zip(mix, material[n * key : (n + 1) * key], strict=True))
        if n < stripes - 1:
            mix = _diffused(mix, hash)
    return mix


def split(key: bytes, noise: bytes, hash: str) -> bytes:
    """The other direction: `noise`: the stripes but the last."""
    mix = bytes(len(key))
    for at in range(0, len(noise), len(key)):
        mix = _diffused(bytes(a ^ b for a, b in zip(mix, noise[at : at + len(key)], strict=True)), hash)
    return noise + bytes(a ^ b for a, b in zip(mix, key, strict=True))


def _diffused(data: bytes, name: str) -> bytes:
    size, out = hashlib.new(name).digest_size, b""
    for n, at in enumerate(range(0, len(data), size)):
        part = data[at : at + size]
        out += hashlib.new(name, struct.pack(">I", n) + part).digest()[: len(part)]
    return out


class LuksLocked(Locked):
    def __init__(
        self, disk: Sectors, first: int, size: int, own: _Header, hurt: int, copies: int, memory: int | None
    ) -> None:
        start = min((s.offset for s in own.segments), default=0)
        lead = next((s for s in own.segments if s.kind == "crypt"), None)
        super().__init__(
            kind=f"luks{own.version}",
            name=f"encrypted Linux volume (LUKS{own.version})",
            method=lead.encryption if lead else "none",
            sector=lead.sector if lead else _SECTOR,
            state="not-opened-here" if own.problem else "encrypted",
            protectors=tuple(Protector(slot.id, "passphrase", not slot.unbound) for slot in own.slots),
            size=max(0, size - start) // disk.sector * disk.sector,
            id=own.id,
            hurt=hurt,
            copies=copies,
        )
        self._disk, self._first, self._whole, self._own, self._memory = disk, first, size, own, memory

    def open(self, key: Key | None) -> Opened:
        if self._own.problem:
            raise InputError(f"{self.name}: expected one that is opened here, got another: {self._own.problem}")
        if key is None:
            raise not_opened(self, None)
        said: list[str] = []
        for slot in self._own.slots:
            if slot.unbound:
                continue
            try:
                volume_key = self._from_slot(slot, key.passphrase)
            except (DecodeError, InputError) as error:
                said.append(f"key slot {slot.id}: {error}")
                continue
            if volume_key is not None:
                return Opened(self, slot.id, self._inside(volume_key))
        if said:
            raise InputError(f"{self.name} {self.id}: expected key slots that can be used, got {'; '.join(said)}")
        raise not_opened(self, key)

    def _from_slot(self, slot: _Slot, passphrase: bytes) -> bytes | None:
        if not (0 < slot.stripes <= _MOST_STRIPES and 0 < slot.key <= _MOST_KEY):
            raise DecodeError("LUKS key slot", at=slot.area, expected="a key in 1 to 20000 stripes", got=slot.stripes)
        wrapping = self._derived(slot, passphrase)
        length = slot.key * slot.stripes
        material = _bytes(self._disk, self._first, slot.area, -(-length // _SECTOR) * _SECTOR)
        if material is None:
            raise DecodeError("LUKS key slot", at=slot.area, expected="sectors that were read", got="unreadable ones")
        plain = made_cipher(slot.encryption, wrapping, _SECTOR, 0).decrypt(0, material)
        _hash(slot.hash, "LUKS key slot", slot.area)
        key = merged(plain[:length], slot.key, slot.stripes, slot.hash)
        for digest in self._own.digests:
            if slot.id in digest.slots:
                _hash(digest.hash, "LUKS digest", 0)
                _counted(digest.rounds)
                own = hashlib.pbkdf2_hmac(digest.hash, key, digest.salt, digest.rounds, len(digest.digest))
                if hmac.compare_digest(own, digest.digest):
                    return key
        return None

    def _derived(self, slot: _Slot, passphrase: bytes) -> bytes:
        kdf = slot.kdf
        if kdf["type"] == "pbkdf2":
            _hash(str(kdf["hash"]), "LUKS key slot", slot.area)
            _counted(int(kdf["iterations"]))
            return hashlib.pbkdf2_hmac(kdf["hash"], passphrase, slot.salt, int(kdf["iterations"]), slot.area_key)
        kinds: dict[str, Any] = {"argon2i": argon2.Argon2i, "argon2id": argon2.Argon2id}
        if kdf["type"] not in kinds:
            raise DecodeError("LUKS key slot", at=slot.area, expected="pbkdf2, argon2i or argon2id", got=kdf["type"])
        if not 0 < int(kdf["time"]) <= _MOST_TURNS:
            raise DecodeError("LUKS key slot", at=slot.area, expected=f"1 to {_MOST_TURNS} turns", got=kdf["time"])
        needed = int(kdf["memory"]) << 10
        if self._memory is not None and needed > self._memory:
            raise InputError(
                f"expected at most {self._memory >> 20} MiB of memory, which is what the bench has free, got "
                f"{needed >> 20} MiB that this key asks for"
            )
        try:
            derived: bytes = kinds[kdf["type"]](
                salt=slot.salt,
                length=slot.area_key,
                iterations=int(kdf["time"]),
                lanes=int(kdf["cpus"]),
                memory_cost=int(kdf["memory"]),
            ).derive(passphrase)
            return derived
        except (ValueError, OverflowError, MemoryError) as error:
            raise DecodeError("LUKS key slot", at=slot.area, expected="numbers for Argon2", got=str(error)) from error

    def _inside(self, key: bytes) -> OpenedSectors:
        stretches, at, ciphers = [], 0, []
        for own in self._own.segments:
            room = self._whole - own.offset if own.size is None else min(own.size, self._whole - own.offset)
            room -= room % max(own.sector, self._disk.sector)
            if room <= 0:
                continue
            if own.sector not in (512, 1024, 2048, 4096) or own.offset % self._disk.sector:
                raise DecodeError(
                    "LUKS segment", at=own.offset, expected="sectors of 512 to 4096 bytes", got=own.sector
                )
            if own.kind == "linear":
                stretches.append(Stretch(at, at + room, PLAIN, own.offset))
            else:
                ciphers.append((own.encryption, own.sector))
                stretches.append(Stretch(at, at + room, CIPHERED, own.offset, own.tweak))
            at += room
        lead = next((s for s in self._own.segments if s.kind == "crypt"), None)
        if lead is None or len(set(ciphers)) != 1 or len(ciphers) > 1:
            raise InputError(f"{self.name}: expected one encrypted part, got {len(ciphers)}")
        cipher = made_cipher(lead.encryption, key, lead.sector, lead.tweak)
        stretches = [Stretch(s.first, s.last, s.kind, s.source, 0) for s in stretches]
        return OpenedSectors(self._disk, self._first, at, stretches, cipher)


def _counted(rounds: int) -> None:
    if not 0 < rounds < _MOST_ROUNDS:
        raise DecodeError("LUKS key slot", at=0, expected=f"1 to {_MOST_ROUNDS} rounds", got=rounds)
