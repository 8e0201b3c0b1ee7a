"""Charge rotations: made, changed by hand, looked for, published, printed."""
