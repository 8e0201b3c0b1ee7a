"""What stations need against what reaches them, and what would change it."""
