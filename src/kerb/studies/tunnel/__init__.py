"""The study ``tunnel``."""
