"""The tape: entries, what stands, and the fold that makes a ticket of them."""
