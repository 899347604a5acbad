"""Handing over, and what it teaches."""
