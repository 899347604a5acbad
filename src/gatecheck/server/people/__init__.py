"""Who may come in: devices that were paired, and whose initials they write."""
