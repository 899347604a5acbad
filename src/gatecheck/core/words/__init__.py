"""Sentences: `said` holds ids and values, `catalogue` words them from words/LANGUAGE/*.toml."""
