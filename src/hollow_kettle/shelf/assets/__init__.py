"""Things put on the shelf, changed, and taken off it."""
