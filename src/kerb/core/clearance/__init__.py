"""Clearances: what fits beneath and beside a structure, over a road."""
