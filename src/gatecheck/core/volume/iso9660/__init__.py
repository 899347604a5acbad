"""ISO 9660: read only."""
