"""What the rotation board shows, each part in its own file."""
