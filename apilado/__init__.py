"""Apilado: a bench for composite basses."""

__version__ = "0.18.0"
