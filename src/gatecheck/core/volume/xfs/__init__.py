"""XFS: read only."""
