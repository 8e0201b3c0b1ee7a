"""Charge rotation: the problem, a first complete plan, and an independent check."""
