"""Lists, header, drawer and start page."""
