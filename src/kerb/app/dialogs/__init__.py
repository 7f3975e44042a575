"""Windows that ask or show one thing."""
