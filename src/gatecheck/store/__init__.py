"""SQLite: schema, migrations, plain SQL. Nothing outside this folder imports sqlite3."""

from gatecheck.store.database import Database, StoreError, open_database

__all__ = ["Database", "StoreError", "open_database"]
