"""The bench: who wants hands, search, and the words of the screens."""
