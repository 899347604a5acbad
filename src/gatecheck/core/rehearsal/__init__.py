"""Rehearsal: simulated machines drawn from a world, worked on by policies through the same fold and moves."""
