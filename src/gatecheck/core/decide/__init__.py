"""What to do: gates, interlocks, the next move, the call, and why."""
