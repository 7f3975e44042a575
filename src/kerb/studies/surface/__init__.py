"""The study ``surface``."""
