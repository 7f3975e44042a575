"""The drawing area and what lies on it."""
