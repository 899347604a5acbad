"""Reads of a drive's surface: those that run, and those that are kept."""
