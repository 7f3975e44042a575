"""The tile store and what is computed on it."""
