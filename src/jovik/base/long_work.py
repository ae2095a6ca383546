"""Long work that a user waits for: the code that does it reports how far it is.

The core knows nothing of terminals. `jovik.cli.waiting_line` listens, and no one does otherwise.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import TypeVar

T = TypeVar("T")
Listener = Callable[[str, int, int], None]
"""Is called with the kind of items in words, the number that is done, and the number of all."""
_listeners: list[Listener] = []


def listen(listener: Listener) -> None:
    """Have every long loop of this process reported to a listener, in place of an earlier one."""
    _listeners[:] = [listener]


def tracked(
    items: Iterable[T], what: str, count: int, size: Callable[[T], int] = lambda _: 1
) -> Iterator[T]:
    """Yield the items, and report at first and after each how much of the work is done.

    All of it is reported as done at the end, also if the loop was left early.
    A loop inside another one is part of its work and is not reported.

    Parameters
    ----------
    what : str
        The items in words, in the plural.
    count : int
        The sum of all sizes.
    size : callable
        Returns how many units of work an item was.
    """
    listeners, _listeners[:] = list(_listeners), []

    def report(done: int) -> None:
        for listener in listeners:
            listener(what, done, count)

    done = 0
    try:
        report(0)
        for item in items:
            yield item
            done += size(item)
            report(min(done, count - 1))
    finally:
        _listeners[:] = listeners
        report(count)
