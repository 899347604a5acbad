"""Btrfs: read only."""
