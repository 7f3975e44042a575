"""How good is it? Heights of a cloud or surface against checkpoints, by the rules of the standards."""
