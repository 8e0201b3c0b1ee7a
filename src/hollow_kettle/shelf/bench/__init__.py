"""Bench tests, and what they found."""
