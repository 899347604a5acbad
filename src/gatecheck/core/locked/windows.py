"""Encrypted Windows volumes: header, three copies of the metadata, key protectors, and where the inside stands.

The format as it is publicly documented (header `-FVE-FS-`, metadata blocks of version 1 and 2, entries, AES-CCM of NIST
SP 800-38C around each key). Little-endian.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from uuid import UUID

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESCCM

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError, InputError
from gatecheck.core.locked.ciphers import Cbc, Diffused, UnitCipher, Xts, offset_vectors
from gatecheck.core.locked.keys import (
    PASSPHRASE,
    RECOVERY_PASSWORD,
    STARTUP_KEY,
    Key,
    entries,
    first_hash,
    stretched,
)
from gatecheck.core.locked.model import Locked, Opened, Protector, not_opened
from gatecheck.core.locked.sectors import CIPHERED, PLAIN, ZEROS, OpenedSectors, Stretch

SIGNATURE = b"-FVE-FS-"
_FIXED = UUID("4967d63b-2e29-4ad8-8399-f6a339e3d001").bytes_le
_ON_WRITE = UUID("92a84d3b-dd80-4d0e-9e4e-b1e3284eaed8").bytes_le
_BLOCK = 0x10000
_MOST = 1 << 20
_UNENCRYPTED_1 = 16 * 512

METHODS = {
    0x8000: "aes-cbc-128-diffuser",
    0x8001: "aes-cbc-256-diffuser",
    0x8002: "aes-cbc-128",
    0x8003: "aes-cbc-256",
    0x8004: "aes-xts-128",
    0x8005: "aes-xts-256",
}
_KEY_BYTES = {0x8000: 16, 0x8001: 32, 0x8002: 16, 0x8003: 32, 0x8004: 32, 0x8005: 64}
_TPM, _STARTUP, _PIN, _RECOVERY, _CARD, _PASSWORD, _NETWORK = 0x100, 0x200, 0x400, 0x800, 0x1000, 0x2000, 0x4000
_PROPERTY_KEY, _STRETCHED, _CIPHERED_KEY, _MASTER = 1, 3, 5, 8
_DECRYPTED, _UNDER_WAY, _ON_WRITE_STATE, _ENCRYPTED, _PAUSED = 1, 2, 3, 4, 5


@dataclass(frozen=True, slots=True)
class _Metadata:
    """One copy. `whole`: its checksum is right; `places`: bytes of the copies; `header`: (place, bytes) of the
    relocated first part; `encrypted`: bytes from the start that are encrypted."""

    whole: bool
    version: int
    state: int
    encrypted: int
    places: tuple[int, ...]
    header: tuple[int, int]
    mirror: int
    volume: bytes
    method: int
    entries: tuple[tuple[int, int, bytes], ...] = field(repr=False)


def places_in(start: bytes) -> tuple[tuple[int, ...], bool]:
    """(bytes of the metadata copies as the volume's header names them, is encrypted as it is written?). Empty where it
    is no header of such a volume."""
    if len(start) < 512:
        return (), False
    if start[3:11] == SIGNATURE:
        own = start[160:176]
        if own in (_FIXED, _ON_WRITE):
            return struct.unpack_from("<3Q", start, 176), own == _ON_WRITE
        cluster = int.from_bytes(start[11:13], "little") * start[13]
        return (int.from_bytes(start[56:64], "little") * cluster,), False
    if start[424:440] == _FIXED:
        return struct.unpack_from("<3Q", start, 440), False
    return (), False


def read_windows(disk: Sectors, first: int, last: int) -> Locked | None:
    """The encrypted Windows volume there, None where there is none. Raises DecodeError where its header is there and no
    copy of the metadata can be read."""
    size = (last - first + 1) * disk.sector
    head = disk.read(first, max(1, 512 // disk.sector))
    start = head.data if not head.missing else b""
    places, _ = places_in(start)
    if not places:
        return None
    unit = int.from_bytes(start[11:13], "little")
    copies: list[_Metadata] = []
    problems: list[DecodeError] = []
    tried: set[int] = set()
    waiting = list(places)
    while waiting:
        place = waiting.pop(0)
        if place in tried:
            continue
        tried.add(place)
        try:
            copy = _metadata(disk, first, size, place)
        except DecodeError as error:
            problems.append(error)
            continue
        copies.append(copy)
        waiting += [p for p in copy.places if p]
    if not copies:
        raise problems[0]
    best = max(copies, key=lambda c: c.whole)
    if not best.whole and len(copies) > 1:
        best = max(copies, key=lambda c: sum(c.entries == other.entries for other in copies))
    if unit not in (512, 1024, 2048, 4096):
        unit = max(512, disk.sector)
    hurt = len(tried) - sum(c.whole for c in copies)
    return WindowsLocked(disk, first, size, unit, best, hurt, len(tried))


def _metadata(disk: Sectors, first: int, size: int, place: int) -> _Metadata:
    what = "encrypted volume's metadata"
    if not 0 < place <= size - 4096 or place % disk.sector:
        raise DecodeError(what, at=place, expected="a place inside the volume", got=place)
    raw = disk.read(first + place // disk.sector, min(_BLOCK, size - place) // disk.sector)
    data = raw.data
    missing = {lba - raw.lba for lba in raw.missing}
    if 0 in missing or data[:8] != SIGNATURE:
        raise DecodeError(
            what, at=place, expected=SIGNATURE.decode(), got="nothing read" if 0 in missing else data[:8].hex()
        )
    length, version, state = struct.unpack_from("<3H", data, 8)
    length = length << 4 if version == 2 else length
    if version not in (1, 2):
        raise DecodeError(what, at=place + 10, expected="version 1 or 2", got=version)
    encrypted, _, sectors = struct.unpack_from("<QII", data, 16)
    places = struct.unpack_from("<3Q", data, 32)
    relocated = int.from_bytes(data[56:64], "little")
    body, body_version, head = struct.unpack_from("<3I", data, 64)
    if body_version != 1 or head != 48 or not head <= body <= len(data) - 64:
        raise DecodeError(what, at=place + 64, expected="a metadata header of 48 bytes", got=head)
    if any(at * disk.sector < 64 + body for at in missing):
        raise DecodeError(what, at=place, expected="sectors that were read", got="unreadable ones")
    found = tuple(entries(data[64 + head : 64 + body]))
    whole = False
    for end in dict.fromkeys((length, 64 + body, -(-(64 + body) // 16) * 16)):
        if 64 + body <= end <= len(data) - 8:
            own = int.from_bytes(data[end + 4 : end + 8], "little")
            whole = whole or own == zlib.crc32(data[:end])
    header = (relocated, sectors * 512 if version == 2 else 0) if version == 2 else (0, 0)
    for _, value, entry in found:
        if version == 2 and value == 15 and len(entry) >= 16:
            header = struct.unpack_from("<2Q", entry, 0)
    return _Metadata(
        whole=whole,
        version=version,
        state=state,
        encrypted=encrypted,
        places=places,
        header=header,
        mirror=relocated if version == 1 else 0,
        volume=data[80:96],
        method=int.from_bytes(data[100:102], "little"),
        entries=found,
    )


def _how(kind: int) -> str:
    names = {
        0: "clear-key",
        _TPM: "tpm",
        _STARTUP: STARTUP_KEY,
        _TPM | _STARTUP: "tpm-startup-key",
        _TPM | _PIN: "tpm-pin",
        _TPM | _STARTUP | _PIN: "tpm-pin-startup-key",
        _RECOVERY: RECOVERY_PASSWORD,
        _PASSWORD: PASSPHRASE,
    }
    if kind in names:
        return names[kind]
    return "network" if kind & _NETWORK else "smart-card" if kind & _CARD else "tpm" if kind & _TPM else "other"


def _shown(id: bytes) -> str:
    """As the customer's account page and the printed key show it."""
    return str(UUID(bytes_le=id)).upper()


@dataclass(frozen=True, slots=True)
class _Master:
    id: bytes
    kind: int
    inside: tuple[tuple[int, int, bytes], ...] = field(repr=False)


def _masters(own: _Metadata) -> list[_Master]:
    found = []
    for _, value, data in own.entries:
        if value == _MASTER and len(data) >= 28:
            found.append(_Master(data[:16], int.from_bytes(data[26:28], "little"), tuple(entries(data[28:]))))
    return found


def _unwrapped(key: bytes, data: bytes) -> bytes | None:
    """What a key wraps: nonce (12), tag (16), bytes. None where it is not this key's, or is damaged."""
    if len(data) < 29:
        return None
    try:
        return AESCCM(key, tag_length=16).decrypt(data[:12], data[28:] + data[12:28], None)
    except (InvalidTag, ValueError):
        return None


def _key_in(plain: bytes | None) -> tuple[int, bytes] | None:
    """(method, key) of an unwrapped key entry."""
    if plain is None or len(plain) < 13:
        return None
    size = int.from_bytes(plain[:2], "little")
    return int.from_bytes(plain[8:10], "little"), plain[12 : size if 12 < size <= len(plain) else len(plain)]


class WindowsLocked(Locked):
    """One that is locked, or suspended (its key is stored with it)."""

    def __init__(self, disk: Sectors, first: int, size: int, unit: int, own: _Metadata, hurt: int, copies: int) -> None:
        masters = _masters(own)
        opens = {"clear-key", RECOVERY_PASSWORD, PASSPHRASE, STARTUP_KEY}
        protectors = tuple(
            Protector("{" + str(UUID(bytes_le=m.id)).upper() + "}", _how(m.kind), _how(m.kind) in opens)
            for m in masters
        )
        super().__init__(
            kind="windows-encrypted",
            name="encrypted Windows volume",
            method=METHODS.get(own.method, f"unknown ({own.method:#06x})"),
            sector=unit,
            state=self._state(own, size, masters),
            protectors=protectors,
            size=size,
            id=_shown(own.volume),
            hurt=hurt,
            copies=copies,
        )
        self._disk, self._first, self._own, self._masters = disk, first, own, masters

    @staticmethod
    def _state(own: _Metadata, size: int, masters: Sequence[_Master]) -> str:
        if own.state == _ON_WRITE_STATE:
            return "encrypting-on-write"
        if own.state == _DECRYPTED and not own.encrypted:
            return "decrypted"
        if own.encrypted < size - _BLOCK and own.state in (_UNDER_WAY, _PAUSED, _DECRYPTED):
            return "converting"
        return "suspended" if any(m.kind == 0 for m in masters) else "encrypted"

    @property
    def needs_key(self) -> bool:
        return not any(m.kind == 0 for m in self._masters) and self.state != "decrypted"

    def open(self, key: Key | None) -> Opened:
        """Raises InputError where the key opens nothing."""
        self._refuse()
        if self.state == "decrypted":
            return Opened(self, "nothing", self._inside(None))
        for master in self._masters:
            opened = self._master_key(master, key)
            if opened is not None:
                method, volume_key = self._volume_key(opened)
                return Opened(self, _shown(master.id), self._inside(self._cipher(method, volume_key)))
        raise not_opened(self, key, self._belonging(key))

    def _belonging(self, key: Key | None) -> str:
        """The id of the protector that a startup key is for."""
        return _shown(key.startup_id) if key and len(key.startup_id) == 16 else ""

    def _refuse(self) -> None:
        if self.state == "encrypting-on-write":
            raise InputError(
                "encrypted Windows volume: expected one whose encryption is complete, got one that is encrypted as it "
                "is written: which parts are encrypted is not read here"
            )
        if self._own.method not in METHODS and self.state != "decrypted":
            raise InputError(
                f"encrypted Windows volume: expected method {', '.join(METHODS.values())}, got {self.method}"
            )

    def _master_key(self, master: _Master, key: Key | None) -> bytes | None:
        wrapped = [data for _, value, data in master.inside if value == _CIPHERED_KEY]
        how = _how(master.kind)
        wrapping: bytes | None = None
        if how == "clear-key":
            wrapping = next((data[4:36] for _, value, data in master.inside if value == _PROPERTY_KEY), None)
        elif key is None:
            return None
        elif how in (RECOVERY_PASSWORD, PASSPHRASE):
            salt = next((data[4:20] for _, value, data in master.inside if value == _STRETCHED), None)
            start = first_hash(key) if how == key.how else None
            if start is None and how == PASSPHRASE and key.how == RECOVERY_PASSWORD:
                start = first_hash(Key(PASSPHRASE, passphrase=key.passphrase))  # a passphrase may look like one
            wrapping = stretched(start, salt) if start is not None and salt else None
        elif how == STARTUP_KEY and key.how == STARTUP_KEY:
            wrapping = key.startup
        if wrapping is None or len(wrapping) not in (16, 32):
            return None
        for data in wrapped:
            found = _key_in(_unwrapped(wrapping, data))
            if found is not None:
                return found[1][:32]
        return None

    def _volume_key(self, master: bytes) -> tuple[int, bytes]:
        for kind, value, data in self._own.entries:
            if kind == 3 and value == _CIPHERED_KEY:
                found = _key_in(_unwrapped(master, data))
                if found is not None:
                    return found
        raise DecodeError("encrypted volume's metadata", at=0, expected="a key of the volume", got="none that opens")

    def _cipher(self, method: int, key: bytes) -> UnitCipher:
        method = method if method in METHODS else self._own.method
        size, unit = _KEY_BYTES[method], self.sector
        if len(key) < (48 if method == 0x8000 else 64 if method == 0x8001 else size):
            raise DecodeError("encrypted volume's key", at=0, expected=f"{size} bytes", got=len(key))
        if method in (0x8000, 0x8001):
            return Diffused(key[:size], key[32 : 32 + size], unit)
        if method in (0x8002, 0x8003):
            return Cbc(key[:size], unit, offset_vectors(key[:size], unit))
        return Xts(key[:size], unit)

    def _inside(self, cipher: UnitCipher | None) -> OpenedSectors:
        """The inside as long as the volume: the relocated first part at its place, zeros where it came from and over
        each copy of the metadata, plain what is not encrypted (yet, or any more)."""
        own, size, unit = self._own, self.size, self.sector
        cut = min(size, own.encrypted if own.encrypted else (0 if self.state == "decrypted" else size))
        cut -= cut % unit
        whole: list[Stretch] = []

        def put(first: int, last: int, source: int) -> None:
            """Ciphered up to the boundary, plain from there, by where the bytes stand."""
            middle = first + min(max(cut - source, 0), last - first)
            if cipher is not None and first < middle:
                whole.append(Stretch(first, middle, CIPHERED, source, source // unit))
            elif first < middle:
                whole.append(Stretch(first, middle, PLAIN, source))
            if middle < last:
                whole.append(Stretch(middle, last, PLAIN, source + middle - first))

        at, (relocated, length) = 0, own.header
        holes = [(p, p + _BLOCK) for p in own.places if p]
        if own.version == 2 and length:
            put(0, length, relocated)
            at = length
            holes.append((relocated, relocated + length))
        elif own.version == 1:
            first = min(_UNENCRYPTED_1, size)
            patch = ((3, b"NTFS    "), (56, own.mirror.to_bytes(8, "little")))
            whole.append(Stretch(0, first, PLAIN, 0, patch=patch))
            at = first
        for first, last in sorted(holes):
            first, last = max(first, at), min(last, size)
            if first > at:
                put(at, first, at)
            if last > first:
                whole.append(Stretch(first, last, ZEROS))
                at = last
        if at < size:
            put(at, size, at)
        return OpenedSectors(self._disk, self._first, size, whole, cipher or Xts(bytes(32), unit))
