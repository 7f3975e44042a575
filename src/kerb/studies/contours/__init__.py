"""The study ``contours``."""
