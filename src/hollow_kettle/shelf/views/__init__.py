"""The Shelf's pages: parse, call, render."""
