"""Panels, what stands round about them, and the sky an event counts on."""
