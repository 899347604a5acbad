"""Practice machines: the real probe on simulated drives."""
