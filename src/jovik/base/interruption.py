"""Requests to end a run (SIGINT, SIGTERM, SIGHUP), none of which is lost or does damage.

Python raises `KeyboardInterrupt` between any two instructions. In the middle of a transaction that
leaves the shelf locked, and in a callback of the interpreter it is swallowed. So Jovik remembers a
request until the run has taken notice of it, and `held_back` delays it.
"""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Literal

Later = Literal["repeat", "exit", "ignore"]


class EndRequested(KeyboardInterrupt):
    """A request to end, as a class of its own.

    A KeyboardInterrupt itself that passes through `exec` of a string (dataclasses and SQLAlchemy
    generate code that way) makes `python -m` die of SIGINT, whatever status it ends with.
    """


class _Requests:
    pending = False
    held_back = 0
    rearm: Callable[[], object] | None = None


def check() -> None:
    """Raise EndRequested if a request to end is pending and nobody has taken notice of it."""
    if _Requests.pending and not _Requests.held_back and _on_main_thread():
        raise EndRequested


def take_notice(*, continuing: bool = False) -> None:
    """Forget the pending request, because the caller has acted on it.

    Parameters
    ----------
    continuing : bool
        Whether the run continues, so that the next SIGINT is a first one again.
    """
    _Requests.pending = False
    if continuing and _Requests.rearm is not None and _on_main_thread():
        _Requests.rearm()


@contextmanager
def held_back() -> Iterator[None]:
    """Delay requests to end until this block has ended, and raise EndRequested then.

    Only the main thread receives signals, so that other threads change nothing.
    """
    if not _on_main_thread():
        yield
        return
    _Requests.held_back += 1
    try:
        yield
    finally:
        _Requests.held_back -= 1
    check()


@contextmanager
def interruptible(*, later: Later = "repeat") -> Iterator[None]:
    """Raise EndRequested on a request to end while this block lasts, then restore the handlers.

    Parameters
    ----------
    later : {"repeat", "exit", "ignore"}
        What a second request does: the same again; a second SIGINT ends the process at once; or
        nothing, for work that takes a moment to leave the system as it was.
    """
    if not _on_main_thread():
        yield
        return
    numbers = [signal.SIGTERM, signal.SIGINT]
    # A program that was started to outlive its terminal (nohup) ignores SIGHUP.
    hang_up = getattr(signal, "SIGHUP", None)
    if hang_up is not None and signal.getsignal(hang_up) != signal.SIG_IGN:
        numbers.append(hang_up)

    def end(number: int, _: object) -> None:
        if later == "ignore":
            for each in numbers:
                signal.signal(each, signal.SIG_IGN)
        elif later == "exit" and number == signal.SIGINT:
            signal.signal(number, lambda *_: os._exit(130))
        _Requests.pending = True
        check()

    before = {number: signal.signal(number, end) for number in numbers}
    _Requests.rearm = lambda: signal.signal(signal.SIGINT, end)
    take_notice()
    try:
        yield
    finally:
        _Requests.rearm = None
        for number, handler in before.items():
            signal.signal(number, handler)
        take_notice()


def _on_main_thread() -> bool:
    return threading.current_thread() is threading.main_thread()
