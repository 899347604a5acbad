"""ext2, ext3 and ext4: inodes, folders, journal, check, repair."""
