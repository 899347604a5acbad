"""Everything that touches files outside the store: captures, disk images, saved files, recordings, the tables that
ship."""
