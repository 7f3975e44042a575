"""How much is in a heap: volume over a base, with its uncertainty."""
