"""One key, as a technician has it: a recovery password, a passphrase, or the bytes of a startup key file.

A recovery password is eight groups of six digits, each of them eleven times a 16-bit number: a wrong digit is known as
it is typed."""

from __future__ import annotations

import hashlib
import re
import struct
from dataclasses import dataclass, field

from gatecheck.core.errors import InputError

RECOVERY_PASSWORD, PASSPHRASE, STARTUP_KEY = "recovery-password", "passphrase", "startup-key"
_GROUPS, _DIGITS, _TIMES = 8, 6, 11
_STRETCHES = 1 << 20
_LARGEST = 1 << 20
_ENTRY = struct.Struct("<4H")
_FILE_HEAD = 48


@dataclass(frozen=True, slots=True)
class Key:
    """`how`: one of the three above; `passphrase`: its bytes as typed, where the key is text; `recovery`: 16 bytes;
    `startup`: 32 bytes, and `startup_id`: which protector it is for. Never shown by repr."""

    how: str
    passphrase: bytes = field(default=b"", repr=False)
    recovery: bytes = field(default=b"", repr=False)
    startup: bytes = field(default=b"", repr=False)
    startup_id: bytes = field(default=b"", repr=False)


def wrong_groups(typed: str) -> list[int]:
    """Groups (1 to 8) of what is typed so far that cannot be right; a group that is not whole is not held to be
    wrong."""
    return [n for n, group in enumerate(_groups(typed), 1) if len(group) == _DIGITS and not _fits(group)]


def _groups(typed: str) -> list[str]:
    digits = re.sub(r"\D", "", typed)
    return [digits[at : at + _DIGITS] for at in range(0, len(digits), _DIGITS)]


def _fits(group: str) -> bool:
    return int(group) % _TIMES == 0 and int(group) // _TIMES < 1 << 16


def seems_recovery_password(text: str) -> bool:
    return bool(re.fullmatch(r"\s*\d{6}([-\s]+\d{1,6})+[-\s]*", text)) or bool(re.fullmatch(r"\s*\d{48}\s*", text))


def recovery_password(typed: str) -> bytes:
    """The 16 bytes of it. Raises InputError, saying which group is wrong and never what was typed."""
    groups = re.findall(r"\d+", typed)
    if len(groups) == 1:
        groups = _groups(typed)
    wrong = [n for n, group in enumerate(groups, 1) if len(group) != _DIGITS or not _fits(group)]
    if wrong:
        raise InputError(
            f"recovery password: expected groups of {_DIGITS} digits that can be divided by {_TIMES}, got another "
            f"group {', '.join(map(str, wrong))}"
        )
    if len(groups) != _GROUPS:
        raise InputError(f"recovery password: expected {_GROUPS} groups of {_DIGITS} digits, got {len(groups)}")
    return b"".join(struct.pack("<H", int(group) // _TIMES) for group in groups)


def key_of(raw: bytes) -> Key:
    """What a key file holds. Raises InputError."""
    if len(raw) > _LARGEST:
        raise InputError(f"key file: expected at most {_LARGEST >> 20} MiB, got {len(raw)} bytes")
    startup = _startup_key(raw)
    if startup is not None:
        return Key(STARTUP_KEY, startup=startup[1], startup_id=startup[0], passphrase=raw)
    line = raw.partition(b"\n")[0].removesuffix(b"\r")
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):  # as text editors of Windows save it
        line = raw.decode("utf-16", "replace").partition("\n")[0].rstrip("\r").encode()
    line = line.removeprefix(b"\xef\xbb\xbf")
    if not line:
        raise InputError(
            "key file: expected a recovery password, a passphrase or a startup key, got an empty first line"
        )
    text = line.decode("utf-8", "replace")
    if seems_recovery_password(text):
        return Key(RECOVERY_PASSWORD, recovery=recovery_password(text), passphrase=line)
    return Key(PASSPHRASE, passphrase=line)


def _startup_key(raw: bytes) -> tuple[bytes, bytes] | None:
    """(protector's id, key) of a startup key file: a metadata header, then an external key entry with a key in it."""
    if len(raw) < _FILE_HEAD + 40:
        return None
    size, version, head, _ = struct.unpack_from("<4I", raw, 0)
    if version != 1 or head != _FILE_HEAD or not head < size <= len(raw):
        return None
    for kind, value, data in entries(raw[head:size]):
        if (kind, value) == (6, 9) and len(data) > 24:
            for _, inner, key in entries(data[24:]):
                if inner == 1 and len(key) >= 36:
                    return data[:16], key[4:36]
    return None


def entries(raw: bytes) -> list[tuple[int, int, bytes]]:
    """(entry type, value type, data) of a run of metadata entries; ends where one cannot be."""
    found, at = [], 0
    while at + _ENTRY.size <= len(raw):
        size, kind, value, _ = _ENTRY.unpack_from(raw, at)
        if size < _ENTRY.size or at + size > len(raw):
            break
        found.append((kind, value, raw[at + _ENTRY.size : at + size]))
        at += size
    return found


def stretched(first: bytes, salt: bytes, rounds: int = _STRETCHES) -> bytes:
    """The key that a recovery password or a passphrase gives: SHA-256 over and over, with the salt and a count.
    `first`: SHA-256 of the 16 bytes, or SHA-256 twice of the passphrase in UTF-16LE."""
    last, middle, sha = bytes(32), first + salt, hashlib.sha256
    pack = struct.Struct("<Q").pack
    for count in range(rounds):
        last = sha(last + middle + pack(count)).digest()
    return last


def first_hash(key: Key) -> bytes | None:
    """What is stretched, None where the key is no text."""
    if key.how == RECOVERY_PASSWORD:
        return hashlib.sha256(key.recovery).digest()
    if key.how == PASSPHRASE:
        text = key.passphrase.decode("utf-8", "surrogateescape").encode("utf-16-le", "surrogatepass")
        return hashlib.sha256(hashlib.sha256(text).digest()).digest()
    return None
