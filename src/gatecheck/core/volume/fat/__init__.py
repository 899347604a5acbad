"""FAT12, FAT16 and FAT32: tables, folders, contents, check, repair."""
