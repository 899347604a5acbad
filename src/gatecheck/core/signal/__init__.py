"""Drive sound and supply current: what the mechanics of a starting disk look like in samples."""
