"""Connections: one writer behind a lock, read-only connections per thread, and transactions that roll back DDL too."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from gatecheck.core.errors import GateCheckError
from gatecheck.store.migrations import migrate
from gatecheck.store.updates import copy_before_update, too_new

_BUSY_SECONDS = 10


class StoreError(GateCheckError):
    """The store cannot do what was asked: says what and why."""


@contextmanager
def atomic(connection: sqlite3.Connection) -> Iterator[sqlite3.Connection]:
    """One transaction, DDL included. sqlite3's own context manager does not roll back CREATE TABLE."""
    connection.execute("BEGIN IMMEDIATE")
    try:
        yield connection
    except BaseException:
        connection.rollback()
        raise
    connection.commit()


class Database:
    """The tickets' database. WAL, foreign keys, synchronous=FULL: a commit that returned is on the disk. `safety_copy`:
    what was copied before an older one was brought up to date."""

    def __init__(self, path: Path | None) -> None:
        self._name = "file:gatecheck?mode=memory" if path is None else str(path)
        self._is_memory = path is None
        self._write_lock = threading.RLock()
        self._idle_lock = threading.Lock()
        self._idle: list[sqlite3.Connection] = []
        self._writer = self._connect()
        with self._write_lock:
            try:
                problem = "" if path is None else too_new(self._writer, self._name)
                if problem:
                    raise StoreError(problem)
                self.safety_copy = None if path is None else copy_before_update(self._writer, path)
                migrate(self._writer, atomic)
            except (sqlite3.Error, OSError) as error:
                raise StoreError(f"{self._name}: expected a database that can be written, got {error}") from error

    def _connect(self) -> sqlite3.Connection:
        try:
            connection = sqlite3.connect(
                ":memory:" if self._is_memory else self._name,
                isolation_level=None,
                check_same_thread=False,
                timeout=_BUSY_SECONDS,
            )
            connection.execute("PRAGMA foreign_keys=ON")
            connection.execute("PRAGMA journal_mode=WAL")
            connection.execute("PRAGMA synchronous=FULL")
        except sqlite3.Error as error:
            raise StoreError(f"{self._name}: expected a database that can be opened, got {error}") from error
        return connection

    @contextmanager
    def write(self) -> Iterator[sqlite3.Connection]:
        """A write transaction; returns only when it is durable."""
        with self._write_lock:
            try:
                with atomic(self._writer) as connection:
                    yield connection
            except sqlite3.OperationalError as error:  # a full disk, another program's lock: nothing of it was kept
                raise StoreError(f"{self._name}: expected room to write and no other writer, got {error}") from error

    @contextmanager
    def read(self) -> Iterator[sqlite3.Connection]:
        """A read-only connection that nobody else uses meanwhile (in memory: the one connection there is). As many are
        kept as were in use at once: threads come and go, and one kept for each of them would never be closed."""
        if self._is_memory:
            with self._write_lock:
                yield self._writer
            return
        with self._idle_lock:
            connection = self._idle.pop() if self._idle else None
        if connection is None:
            connection = self._connect()
            connection.execute("PRAGMA query_only=1")
        try:
            yield connection
        finally:
            with self._idle_lock:
                self._idle.append(connection)

    def forget(self) -> None:
        """Write the whole database anew, so that nothing deleted stands in its pages or its log any more."""
        with self._write_lock:
            try:
                self._writer.execute("PRAGMA wal_checkpoint(TRUNCATE)")
                self._writer.execute("VACUUM")
                self._writer.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            except sqlite3.Error as error:
                raise StoreError(f"{self._name}: expected room to write it anew, got {error}") from error

    def close(self) -> None:
        """Close every connection."""
        with self._write_lock, self._idle_lock:
            for connection in [*self._idle, self._writer]:
                connection.close()
            self._idle.clear()


def open_database(path: Path | None) -> Database:
    """Open (and migrate) the database at `path`; None keeps it in memory. Raises StoreError."""
    if path is not None:
        path.parent.mkdir(parents=True, exist_ok=True)
    return Database(path)
