"""The study ``spots``."""
