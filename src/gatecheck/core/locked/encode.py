"""Encrypted volumes made up: for practice machines and tests. The keys are the caller's, so that a volume is the same
each time."""

from __future__ import annotations

import base64
import hashlib
import json
import struct
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from uuid import UUID

from cryptography.hazmat.primitives.ciphers.aead import AESCCM
from cryptography.hazmat.primitives.kdf import argon2

from gatecheck.core.locked.ciphers import Cbc, Diffused, UnitCipher, Xts, offset_vectors
from gatecheck.core.locked.keys import PASSPHRASE, RECOVERY_PASSWORD, Key, first_hash, stretched
from gatecheck.core.locked.luks import MAGIC, SECOND, made_cipher, split

_FIXED = UUID("4967d63b-2e29-4ad8-8399-f6a339e3d001").bytes_le
_BLOCK, _ID = 0x10000, b"5aa4c0de-0000-4000-8000-0000000000a2"
VOLUME = UUID(int=0x51DE)
_KINDS = {"clear-key": 0, "tpm": 0x100, "startup-key": 0x200, RECOVERY_PASSWORD: 0x800, PASSPHRASE: 0x2000}
_SIZES = {0x8000: 64, 0x8001: 64, 0x8002: 16, 0x8003: 32, 0x8004: 32, 0x8005: 64}


@dataclass(frozen=True, slots=True)
class Protection:
    """One way in. `how` as `Protector.how`; `key`: for those of text; `startup`: 32 bytes, for a startup key or a clear
    key; `stretched`: what stretching gives for the key, where that is known."""

    id: UUID
    how: str
    key: Key | None = None
    startup: bytes = b""
    stretched: bytes = b""


def noise(name: str, size: int) -> bytes:
    """Bytes that look random and are always the same."""
    return hashlib.shake_256(name.encode()).digest(size)


def recovery_text(raw: bytes) -> str:
    """The recovery password of 16 bytes, as it is printed."""
    return "-".join(f"{11 * n:06d}" for n in struct.unpack("<8H", raw))


def _entry(kind: int, value: int, data: bytes) -> bytes:
    return struct.pack("<4H", 8 + len(data), kind, value, 1) + data


def _wrapped(key: bytes, plain: bytes, nonce: bytes, kind: int = 0) -> bytes:
    sealed = AESCCM(key, tag_length=16).encrypt(nonce, plain, None)
    return _entry(kind, 5, nonce + sealed[-16:] + sealed[:-16])


def _key_entry(method: int, key: bytes, kind: int = 0) -> bytes:
    return _entry(kind, 1, struct.pack("<I", method) + key)


def _cipher(method: int, key: bytes, unit: int) -> UnitCipher:
    size = {0x8000: 16, 0x8001: 32}.get(method)
    if size:
        return Diffused(key[:size], key[32 : 32 + size], unit)
    if method in (0x8002, 0x8003):
        return Cbc(key, unit, offset_vectors(key, unit))
    return Xts(key, unit)


def windows_volume(
    plain: bytes,
    protections: Sequence[Protection],
    *,
    method: int = 0x8004,
    unit: int = 512,
    volume: UUID = VOLUME,
    to_go: bool = False,
    encrypted: int | None = None,
    places: tuple[int, int, int] | None = None,
    head: int = 8192,
) -> bytes:
    """A locked volume of as many bytes as `plain`, whose three metadata areas and the area behind the first of them
    must be zeros. `encrypted`: bytes from the start that are encrypted, where that is under way."""
    size = len(plain)
    places = places or (size // 4 & -_BLOCK, size // 2 & -_BLOCK, size * 3 // 4 & -_BLOCK)
    moved = places[0] + _BLOCK
    edge = size if encrypted is None else encrypted
    own = noise(f"volume key {volume}", _SIZES[method])
    master = noise(f"master key {volume}", 32)
    cipher = _cipher(method, own, unit)
    body = bytearray(plain)
    body[moved : moved + head] = plain[:head]
    out = bytearray(cipher.encrypt(0, bytes(body[:edge])) + body[edge:])
    metadata = _metadata(size, protections, method, volume, places, (moved, head), edge, master, own)
    for place in places:
        out[place : place + _BLOCK] = metadata + bytes(_BLOCK - len(metadata))
    out[:head] = _start(unit, places, to_go) + bytes(head - 512)
    return bytes(out)


def windows_sparse(
    content: Mapping[int, bytes],
    sectors: int,
    protections: Sequence[Protection],
    *,
    places: tuple[int, int, int],
    method: int = 0x8004,
    volume: UUID = VOLUME,
    head: int = 8192,
) -> dict[int, bytes]:
    """A locked volume of so many sectors of 512 bytes, of which only `content` (sector -> bytes) was ever written: the
    rest stands as zeros, as where only used room is encrypted. `places`: bytes of its metadata areas, the first with
    room behind it, in what is free."""
    size, unit, moved = sectors * 512, 512, places[0] + _BLOCK
    own, master = noise(f"volume key {volume}", _SIZES[method]), noise(f"master key {volume}", 32)
    cipher = _cipher(method, own, unit)
    first = content.get(0, b"")[:head].ljust(head, b"\0")
    out = {at: cipher.encrypt(at, data) for at, data in content.items() if at >= head // 512}
    low = content.get(0, b"")
    if len(low) > head:
        out[head // 512] = cipher.encrypt(head // 512, low[head:])
    metadata = _metadata(size, protections, method, volume, places, (moved, head), size, master, own)
    for place in places:
        out[place // 512] = metadata + bytes(_BLOCK - len(metadata))
    out[moved // 512] = cipher.encrypt(moved // 512, first)
    out[0] = _start(unit, places, to_go=False) + bytes(head - 512)
    return out


def _start(unit: int, places: tuple[int, int, int], to_go: bool) -> bytes:
    start = bytearray(512)
    start[:3] = b"\xeb\x58\x90"
    start[3:11] = b"MSWIN4.1" if to_go else b"-FVE-FS-"
    start[11:13], start[13] = struct.pack("<H", unit), 8
    at = 424 if to_go else 160
    start[at : at + 16] = _FIXED
    struct.pack_into("<3Q", start, at + 16, *places)
    start[510:] = b"\x55\xaa"
    return bytes(start)


def _metadata(
    size: int,
    protections: Sequence[Protection],
    method: int,
    volume: UUID,
    places: tuple[int, int, int],
    header: tuple[int, int],
    encrypted: int,
    master: bytes,
    own: bytes,
) -> bytes:
    entries, nonces = b"", iter(struct.pack("<QI", 0x01D90000_00000000, n) for n in range(1, 99))
    for one in protections:
        inside, wrapping = b"", one.startup
        if one.key is not None:
            salt, first = noise(f"salt {one.id}", 16), first_hash(one.key)
            assert first is not None
            wrapping = one.stretched or stretched(first, salt)
            inside += _entry(0, 3, struct.pack("<I", 0x1000) + salt)
        elif one.how == "clear-key":
            inside += _key_entry(0x2000, wrapping)
        if wrapping:
            inside += _wrapped(wrapping, _key_entry(0x2000, master), next(nonces))
        entries += _entry(2, 8, one.id.bytes_le + struct.pack("<QHH", 0, 0, _KINDS[one.how]) + inside)
    entries += _wrapped(master, _key_entry(method, own), next(nonces), kind=3)
    entries += _entry(15, 15, struct.pack("<2Q", *header))
    body = struct.pack("<4I", 48 + len(entries), 1, 48, 48 + len(entries)) + volume.bytes_le
    body += struct.pack("<IIQ", 99, method, 0x01D90000_00000000) + entries
    body += bytes(-len(body) % 16)
    state = 4 if encrypted == size else 2
    whole = b"-FVE-FS-" + struct.pack("<4H", (64 + len(body)) >> 4, 2, state, 4)
    whole += struct.pack("<QII", encrypted, 0, header[1] // 512) + struct.pack("<4Q", *places, header[0]) + body
    proof = _wrapped(master, _key_entry(0x2005, hashlib.sha256(whole).digest()), next(nonces))
    return whole + struct.pack("<HHI", 8 + len(proof), 2, zlib.crc32(whole)) + proof


def startup_file(id: UUID, key: bytes) -> bytes:
    """The file of a startup key."""
    own = _entry(6, 9, id.bytes_le + bytes(8) + _key_entry(0x2002, key))
    return struct.pack("<4I", 48 + len(own), 1, 48, 48 + len(own)) + id.bytes_le + struct.pack("<IIQ", 1, 0, 0) + own


def luks1(
    plain: bytes, passphrases: Sequence[bytes], *, cipher: str = "aes-xts-plain64", hash: str = "sha256"
) -> bytes:
    """A LUKS1 volume around these bytes; its key slots have few rounds."""
    name, _, mode = cipher.partition("-")
    size = 64 if mode.startswith("xts") else 32
    key, rounds, stripes = noise("luks1 key", size), 1000, 4000
    each = -(-size * stripes // 4096) * 8
    payload = 8 + 8 * each
    payload += -payload % 8
    digest_salt = noise("luks1 digest", 32)
    digest = hashlib.pbkdf2_hmac(hash, key, digest_salt, rounds, 20)
    head = MAGIC + struct.pack(">H32s32s32sII", 1, name.encode(), mode.encode(), hash.encode(), payload, size)
    head += digest + digest_salt + struct.pack(">I40s", rounds, b"5aa4c0de-0000-4000-8000-0000000000a1")
    slots, areas = b"", {}
    for n in range(8):
        salt, at = noise(f"luks1 slot {n}", 32), 8 + n * each
        active = n < len(passphrases)
        slots += struct.pack(">2I", 0x00AC71F3 if active else 0xDEAD, rounds) + salt + struct.pack(">2I", at, stripes)
        if active:
            wrapping = hashlib.pbkdf2_hmac(hash, passphrases[n], salt, rounds, size)
            areas[at * 512] = _slot_area(key, stripes, hash, cipher, wrapping)
    out = bytearray(payload * 512)
    out[: len(head) + len(slots)] = head + slots
    for place, area in areas.items():
        out[place : place + len(area)] = area
    return bytes(out) + made_cipher(cipher, key, 512, 0).encrypt(0, plain)


def _slot_area(key: bytes, stripes: int, hash: str, cipher: str, wrapping: bytes) -> bytes:
    area = split(key, noise("stripes", len(key) * (stripes - 1)), hash)
    return made_cipher(cipher, wrapping, 512, 0).encrypt(0, area + bytes(-len(area) % 512))


def luks2(
    plain: bytes,
    passphrases: Sequence[bytes],
    *,
    cipher: str = "aes-xts-plain64",
    unit: int = 512,
    kdf: str = "argon2id",
    memory: int = 64,
    tweak: int = 0,
) -> bytes:
    """A LUKS2 volume around these bytes. `memory`: KiB for Argon2."""
    size = 64 if "xts" in cipher else 32
    key, stripes, header, area_size = noise("luks2 key", size), 4000, 0x4000, 258_048
    offset = 2 * header + len(passphrases) * area_size
    offset += -offset % 4096
    slots, areas = {}, {}
    for n, passphrase in enumerate(passphrases):
        salt, at = noise(f"luks2 slot {n}", 32), 2 * header + n * area_size
        own: dict[str, object] = {"type": kdf, "salt": base64.b64encode(salt).decode()}
        if kdf == "pbkdf2":
            own |= {"hash": "sha256", "iterations": 1000}
            wrapping = hashlib.pbkdf2_hmac("sha256", passphrase, salt, 1000, size)
        else:
            own |= {"time": 4, "memory": memory, "cpus": 1}
            made = argon2.Argon2i if kdf == "argon2i" else argon2.Argon2id
            wrapping = made(salt=salt, length=size, iterations=4, lanes=1, memory_cost=memory).derive(passphrase)
        area = {"type": "raw", "offset": str(at), "size": str(area_size), "encryption": cipher, "key_size": size}
        split_by = {"type": "luks1", "stripes": stripes, "hash": "sha256"}
        slots[str(n)] = {"type": "luks2", "key_size": size, "af": split_by, "area": area, "kdf": own}
        areas[at] = _slot_area(key, stripes, "sha256", cipher, wrapping)
    salt = noise("luks2 digest", 32)
    digest = {
        "type": "pbkdf2", "keyslots": list(slots), "segments": ["0"], "hash": "sha256", "iterations": 1000,
        "salt": base64.b64encode(salt).decode(),
        "digest": base64.b64encode(hashlib.pbkdf2_hmac("sha256", key, salt, 1000, 32)).decode(),
    }  # fmt: skip
    segment = {
        "type": "crypt", "offset": str(offset), "size": "dynamic", "iv_tweak": str(tweak), "encryption": cipher,
        "sector_size": unit,
    }  # fmt: skip
    body = {
        "keyslots": slots, "tokens": {}, "segments": {"0": segment}, "digests": {"0": digest},
        "config": {"json_size": str(header - 4096), "keyslots_size": str(offset - 2 * header)},
    }  # fmt: skip
    text = json.dumps(body).encode()
    out = bytearray(offset)
    for place, magic in ((0, MAGIC), (header, SECOND)):
        raw = bytearray(header)
        struct.pack_into(">6sHQQ48s32s64s40s48sQ", raw, 0, magic, 2, header, 3, b"", b"sha256",
                         noise(f"luks2 header {place}", 64), _ID, b"", place)  # fmt: skip
        raw[4096 : 4096 + len(text)] = text
        raw[448 : 448 + 32] = hashlib.sha256(raw).digest()
        out[place : place + header] = raw
    for place, material in areas.items():
        out[place : place + len(material)] = material
    step = made_cipher(cipher, key, unit, tweak)
    return bytes(out) + step.encrypt(0, plain)
