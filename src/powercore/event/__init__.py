"""An event as one value, its sky, and its numbers worked out once."""
