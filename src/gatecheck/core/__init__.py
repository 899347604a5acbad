"""The part that computes: bytes and values in, values out. No files, clock, network, database or web."""
