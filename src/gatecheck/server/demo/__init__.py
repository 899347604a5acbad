"""The made-up counter of the demo."""
