"""The version, where every layer can read it. The build writes it from the tags."""

from __future__ import annotations

try:
    from jovik.base._version import VERSION
except ImportError:
    VERSION = "0+unknown"

__all__ = ["VERSION"]
