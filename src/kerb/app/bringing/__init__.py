"""Bringing data in: what the files are, where they lie, and what shall be done with them."""
