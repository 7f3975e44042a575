"""One module per question: Setup, run, Outcome."""
