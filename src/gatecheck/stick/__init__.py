"""The bench's own live stick: built from Debian's packages, started on nearly any PC, writing to no drive of the
machine."""
