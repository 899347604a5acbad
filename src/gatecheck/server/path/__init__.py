"""The Path instrument: what the disk offers this firmware, read through the link as far as it is asked for, and mending
it with a way back."""
