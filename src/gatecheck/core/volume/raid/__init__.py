"""Linux RAID: which set a partition is a member of, and what the members hold together."""
