"""Commands of the command line that work on disks and volumes; the parser knows them by name and imports them when they are called."""
