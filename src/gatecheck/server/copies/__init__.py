"""Copies of customers' drives, taken off through the link onto the bench's own disk."""
