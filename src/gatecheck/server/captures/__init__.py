"""Files on tickets: kept, decoded, weighed."""
