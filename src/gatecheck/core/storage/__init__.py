"""The drive's own pages: layouts of the standards, readers, judges."""
