"""Disk room: what images and recovered files take for each ticket, and what may go."""
