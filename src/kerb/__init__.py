"""Kerb: point clouds compared with checkpoints, designs and earlier epochs, for survey analysts."""

__version__ = "0.1.0"
