"""Stations: what is there, when they are open, their own supplies."""
