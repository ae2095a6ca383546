"""A command is its options and the name of its handler, which is loaded when it is called."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from importlib import import_module
from typing import Any

Described = Callable[[], None]
"""A function whose name and docstring are those of a command."""


def handled_by(place: str) -> Callable[[Described], Callable[..., Any]]:
    """Call the handler at `place` instead of the function.

    Parameters
    ----------
    place : str
        ``MODULE:FUNCTION``, a module of `jovik.cli.handlers`. It takes the command's options.
    """
    module, _, name = place.partition(":")

    def replaced(described: Described) -> Callable[..., Any]:
        @wraps(described)
        def call(*args: Any, **options: Any) -> Any:
            return getattr(import_module(f"jovik.cli.handlers.{module}"), name)(*args, **options)

        return call

    return replaced
