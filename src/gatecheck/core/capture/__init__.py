"""What a capture is: one table of page kinds, reading, manifest."""
