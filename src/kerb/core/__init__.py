"""Numbers only: no Qt, no file formats, no job."""
