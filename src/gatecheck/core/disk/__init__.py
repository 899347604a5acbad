"""What a disk offers the firmware: so far its GUID partition table."""
