"""Interactive charts of the drawer."""
