"""Distances of one survey from another, point by point."""
