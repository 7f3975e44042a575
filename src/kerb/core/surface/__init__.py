"""Triangulated surfaces, grids and the volumes between them."""
