"""Hollow Kettle: keeps a radio club's stations on the air."""

VERSION = "0.1.0"
