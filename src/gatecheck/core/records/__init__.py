"""System records: what an installed system has written down of itself. Read only; what is torn is read as far as it
goes, and said."""
