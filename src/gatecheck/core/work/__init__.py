"""Carrying out what was called: the steps of the job, the tray, the parts that fit, and what proves it."""
