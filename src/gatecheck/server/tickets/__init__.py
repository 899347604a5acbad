"""Tickets: folding, appending, the call sheet."""
