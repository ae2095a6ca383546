"""Jovik measures a storage drive and says how far each figure can be trusted."""

__version__ = "0.1.0"
