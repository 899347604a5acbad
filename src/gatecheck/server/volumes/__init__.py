"""The Volume instrument: looking at a volume without writing, repairing it with a way back, rescuing what is on it."""
