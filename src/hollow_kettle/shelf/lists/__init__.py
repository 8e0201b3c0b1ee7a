"""Lists in and out."""
