"""What the mouse does in the views."""
