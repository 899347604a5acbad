"""The triage engine: belief over faults, gates, interlocks, next move, the call."""
