"""Volumes between two dates on a face that overhangs, in a frame laid on it or unrolled about an axis."""
