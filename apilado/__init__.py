"""Apilado: a bench for composite basses."""

import os

__version__ = "0.18.9"

# Two threads render already: those of NumPy's linear algebra would only take their turns. It asks when it is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
