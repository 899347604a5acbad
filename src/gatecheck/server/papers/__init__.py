"""Papers: gathered from the ticket, worded, printed."""
