"""exFAT: folders, contents, check, repair."""
