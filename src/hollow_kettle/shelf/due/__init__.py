"""What is due, and what may leave as full."""
