"""SQLite: schema, migrations, plain SQL. Nothing outside this folder imports sqlite3."""

from sqlite3 import Connection

from gatecheck.store.database import Database, StoreError, open_database

__all__ = ["Connection", "Database", "StoreError", "open_database"]
