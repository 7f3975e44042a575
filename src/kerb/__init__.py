"""Kerb: point clouds compared with checkpoints, designs and earlier epochs, for survey analysts."""

import os

__version__ = "0.1.0"

# Studies share the cores among themselves (core/parallel). Linear algebra of small matrices that asks for all cores too makes
# each wait for the others, and takes several times as long. It is read when NumPy is first imported; what is set already stays.
for _library in ("OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS"):
    os.environ.setdefault(_library, "1")
