"""The Ear: what a drive sounds like, what it draws, how long it takes to be ready."""
