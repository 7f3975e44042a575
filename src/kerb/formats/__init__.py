"""One module per open file format."""
