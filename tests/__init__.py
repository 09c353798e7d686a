"""Tests of Apilado."""

import apilado  # noqa: F401  before NumPy, which asks once how many threads it may have
