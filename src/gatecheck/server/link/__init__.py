"""The link between a ticket and the probe on its machine."""
