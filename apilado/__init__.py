"""Apilado: a bench for composite basses."""

__version__ = "0.17.0"
