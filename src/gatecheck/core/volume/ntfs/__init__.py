"""NTFS: records, folders, contents, check, repair."""
