"""The window. Holds no computation."""
