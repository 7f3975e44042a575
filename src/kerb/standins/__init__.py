"""Small simulated services on this machine: a public agency with tiles, and a field controller."""
