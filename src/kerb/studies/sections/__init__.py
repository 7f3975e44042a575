"""What does the ground look like across the line? Cross-sections of clouds, surfaces and survey points."""
