"""Bringing a cloud into line with another: closest points, pairs, and what the data do not determine."""
