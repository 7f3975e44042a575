"""Tunnels, shafts and pipes: walls along an alignment held against a design line."""
