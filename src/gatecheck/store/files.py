"""Uploaded files, stored by what they contain: one file on disk per SHA-256, however often it was handed in."""

from __future__ import annotations

import hashlib
import sqlite3
from dataclasses import dataclass
from pathlib import Path

from gatecheck.adapters.durable_file import write_durably
from gatecheck.store.database import StoreError

_ADD_FILE = "INSERT INTO file (sha256, size, added_at) VALUES (:sha, :size, :at) ON CONFLICT DO NOTHING"
_ATTACH = """
    INSERT INTO attachment (ticket_id, sha256, name, added_by, added_at) VALUES (:ticket_id, :sha, :name, :by, :at)
    ON CONFLICT (ticket_id, sha256) DO NOTHING"""
_OF_TICKET = """
    SELECT a.sha256, a.name, f.size, a.added_by, a.added_at FROM attachment a JOIN file f USING (sha256)
    WHERE a.ticket_id = ? ORDER BY a.id DESC"""


@dataclass(frozen=True, slots=True)
class Attachment:
    sha256: str
    name: str
    size: int
    added_by: str
    added_at: str


class FileStore:
    """A folder of files named by their SHA-256. Written whole and synced before anything refers to them."""

    def __init__(self, folder: Path, largest: int) -> None:
        self.folder, self.largest = folder, largest

    def put(self, data: bytes) -> str:
        """Store bytes, return their SHA-256 in hex. Raises StoreError where they are too large or the disk is full."""
        if len(data) > self.largest:
            raise StoreError(f"file: expected at most {self.largest >> 20} MiB, got {len(data) / (1 << 20):.1f} MiB")
        digest = hashlib.sha256(data).hexdigest()
        target = self._path(digest)
        if target.exists():
            return digest
        try:
            write_durably(target, data)
        except OSError as error:
            raise StoreError(f"file {digest[:12]}: expected room to store it, got {error.strerror}") from error
        return digest

    def get(self, digest: str) -> bytes:
        """The bytes of a stored file; their digest is checked. Raises StoreError."""
        if len(digest) != 64 or not all(c in "0123456789abcdef" for c in digest):
            raise StoreError(f"file {digest[:12]!r}: expected 64 hex digits, got {len(digest)} characters")
        try:
            data = self._path(digest).read_bytes()
        except OSError as error:
            raise StoreError(f"file {digest[:12]}: expected a stored file, got {error.strerror}") from error
        if hashlib.sha256(data).hexdigest() != digest:
            raise StoreError(f"file {digest[:12]}: expected its own digest, got other bytes: the disk has changed them")
        return data

    def _path(self, digest: str) -> Path:
        return self.folder / digest[:2] / digest


def attach(
    connection: sqlite3.Connection, ticket_id: int, digest: str, name: str, size: int, *, by: str, at: str
) -> None:
    """Record that a stored file belongs to a ticket; the same file twice is one attachment."""
    connection.execute(_ADD_FILE, {"sha": digest, "size": size, "at": at})
    connection.execute(_ATTACH, {"ticket_id": ticket_id, "sha": digest, "name": name, "by": by, "at": at})


def attachments(connection: sqlite3.Connection, ticket_id: int) -> list[Attachment]:
    """A ticket's files, newest first."""
    return [Attachment(*row) for row in connection.execute(_OF_TICKET, (ticket_id,))]
