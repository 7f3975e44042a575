"""The study ``mend``."""
