"""Encrypted volumes: read, opened with a key, and seen as the sectors inside. Nothing here writes, and no key is kept
longer than the volume that it opened."""
