"""Simulated patients: machines whose drives and firmware answer the real probe with encoded bytes."""
