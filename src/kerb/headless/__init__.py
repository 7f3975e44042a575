"""The verbs of the command line: the same studies without a window."""
