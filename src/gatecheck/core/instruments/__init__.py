"""What each screen beside the ticket knows: settings, sightings, keys, and what a capture fills in."""
