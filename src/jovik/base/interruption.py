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
from typing import Any


class _Requests:
    pending = False
    held_back = 0
    rearm: Callable[[], object] | None = None


def check() -> None:
    """Raise KeyboardInterrupt if a request to end is pending and nobody has taken notice of it."""
    if _Requests.pending and not _Requests.held_back and _on_main_thread():
        raise KeyboardInterrupt


def take_notice(*, continuing: bool = False) -> None:
    """Forget the pending request: whoever caught the KeyboardInterrupt acts on it.

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
    """Delay requests to end until this block has ended, and raise KeyboardInterrupt then.

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
def interruptible(*, forced: bool = False) -> Iterator[None]:
    """End the pass on a request to end while this block lasts, then restore the handlers.

    Parameters
    ----------
    forced : bool
        Whether a second SIGINT ends the process at once.
    """
    if not _on_main_thread():
        yield
        return
    on_interrupt = _forced if forced else _request

    handlers: dict[signal.Signals, Any] = {signal.SIGTERM: _request, signal.SIGINT: on_interrupt}
    # A program that was started to outlive its terminal (nohup) ignores SIGHUP.
    if signal.getsignal(signal.SIGHUP) != signal.SIG_IGN:
        handlers[signal.SIGHUP] = _request
    before = {number: signal.signal(number, handler) for number, handler in handlers.items()}
    _Requests.rearm = lambda: signal.signal(signal.SIGINT, on_interrupt)
    take_notice()
    try:
        yield
    finally:
        _Requests.rearm = None
        for number, handler in before.items():
            signal.signal(number, handler)
        take_notice()


def _request(*_: Any) -> None:
    _Requests.pending = True
    check()


def _forced(*_: Any) -> None:
    signal.signal(signal.SIGINT, lambda *_: os._exit(130))
    _request()


def _on_main_thread() -> bool:
    return threading.current_thread() is threading.main_thread()
