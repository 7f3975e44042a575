"""Tests: ``below`` runs without Qt, ``window`` drives the real interface without a screen."""

import kerb  # noqa: F401 - before NumPy, so that the tests run on as many threads as the program does
