"""What the instruments on a ticket show."""
