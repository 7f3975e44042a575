"""Polygons, polylines, planes and transforms."""
