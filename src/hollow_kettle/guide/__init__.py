"""The way in: the guide, and an empty club's first steps."""
