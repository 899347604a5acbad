"""Carrying out: the job of a signed call, the tray, the shelf, the proof."""
