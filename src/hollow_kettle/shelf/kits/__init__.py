"""Kits: how they are wired, what is wrong in them, what is in them."""
