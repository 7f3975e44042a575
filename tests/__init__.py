"""Tests: ``below`` runs without Qt, ``window`` drives the real interface without a screen."""
