"""Gate Check: triage for machines that will not start."""

__version__ = "0.1.0"
