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

    def replaced(described: Described) -> Callable[..., Any]:
        @wraps(described)
        def call(*args: Any, **options: Any) -> Any:
            return _load("jovik.cli.handlers", place)(*args, **options)

        return call

    return replaced


def answered_by(place: str) -> Callable[[Described], Callable[..., int]]:
    """Print the answer of the function at `place` instead of calling the function.

    Parameters
    ----------
    place : str
        ``MODULE:FUNCTION``, a module of `jovik.answers`. It takes the command's options, and the
        open shelf before them if the command has `--shelf`.
    """

    def replaced(described: Described) -> Callable[..., int]:
        @wraps(described)
        def call(form: str, **options: Any) -> int:
            ask = _load("jovik.answers", place)
            show: Callable[[Any, str], int] = _load("jovik.cli", "output:show")
            if "shelf_at" not in options:
                return show(ask(**options), form)
            where = _load("jovik.base", "settings:where_from")(options.pop("shelf_at"))
            with _load("jovik.shelf", "store:Shelf")(where) as shelf:
                answer = ask(shelf, **options)
            return show(answer, form)

        return call

    return replaced


def _load(package: str, place: str) -> Any:
    module, _, name = place.partition(":")
    return getattr(import_module(f"{package}.{module}"), name)
