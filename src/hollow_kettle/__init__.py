"""Hollow Kettle: keeps a radio club's stations on the air."""
