"""The study ``plan``."""
