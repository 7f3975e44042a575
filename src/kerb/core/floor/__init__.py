"""Floors: what of a scan is the slab, how flat and level it is, and where water goes."""
