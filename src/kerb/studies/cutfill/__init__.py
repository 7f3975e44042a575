"""The study ``cutfill``."""
