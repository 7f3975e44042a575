"""Floor plans: wall lines fitted to a level slice of a cloud, and the rooms between them."""
