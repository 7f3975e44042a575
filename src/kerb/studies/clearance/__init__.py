"""The study ``clearance``."""
