"""What each action does, one class for each menu."""
