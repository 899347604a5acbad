"""Names as a volume holds them, as text that can be told, written and taken back to the same bytes.

What is no valid text stands as `\\xHH` for a byte or `\\uHHHH` for half a surrogate pair; in a name that could be
mistaken for one, a backslash is `\\x5c`."""

from __future__ import annotations

import re

_LIKE_ESCAPE = re.compile(r"\\(?=x[0-9a-f]{2}|u[0-9a-f]{4})")
_SURROGATE = re.compile("[\ud800-\udfff]")
_CONTROL = re.compile(r"[\x00-\x1f\x7f/]")


def name_of_bytes(raw: bytes) -> str:
    """A name in bytes that mean to be UTF-8 (ext). No slash, and never the same for two names."""
    text = _LIKE_ESCAPE.sub(r"\\x5c", raw.decode("utf-8", "surrogateescape"))
    return _SURROGATE.sub(lambda found: f"\\x{ord(found[0]) - 0xDC00:02x}", text).replace("/", "\\x2f")


def name_of_utf16(raw: bytes) -> str:
    """A name in UTF-16, little-endian (NTFS, exFAT, FAT's long names): a half of a letter stays that half."""
    text = _LIKE_ESCAPE.sub(r"\\x5c", raw[: len(raw) // 2 * 2].decode("utf-16-le", "surrogatepass"))
    return _SURROGATE.sub(lambda found: f"\\u{ord(found[0]):04x}", text).replace("/", "\\x2f")


def bytes_of_name(name: str) -> bytes:
    """What `name_of_bytes` was given."""
    found = re.sub(
        r"\\x([0-9a-f]{2})", lambda m: chr(0xDC00 + int(m[1], 16)) if int(m[1], 16) > 0x7F else chr(int(m[1], 16)), name
    )
    return found.encode("utf-8", "surrogateescape")


def name_to_write(name: str) -> str:
    """A name as any file system takes it: control characters as they are told above."""
    return _CONTROL.sub(lambda found: f"\\x{ord(found[0]):02x}", name)
