"""Jovik measures a storage drive and says how far each figure can be trusted."""

from jovik.version import VERSION as __version__

__all__ = ["__version__"]
