"""F2FS: read only."""
