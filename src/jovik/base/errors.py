"""Every error that Jovik raises on purpose.

JovikError                          one or two plain lines; `exit_status` says which kind
├── UsageError                 (2)  what was typed or written down cannot be understood
│   ├── PhraseError                 a step phrase, with a caret under the word at fault
│   └── UnknownNameError            no drive, plan or model drive of that name; the nearest are
│       │                           offered
│       └── UnknownRecordingError   a replay's recording, which a shelf may still have
├── RefusedError               (3)  the target or the environment says no
│   ├── TargetError                 missing, not writable, too small, an alignment it cannot take
│   ├── OutputError                 a file that Jovik was to write cannot be written
│   ├── EngineUnavailableError      the kernel does not offer what the engine needs
│   ├── MissingPackageError     a package that only some commands need is not installed
│   └── ShelfError                  not a shelf, a later revision, a damaged file
│       └── ShelfUnreachableError   the server that the shelf is on cannot be reached now
├── DriveError                 (4)  the drive failed during a test
└── RunInterrupted           (130)  a person stopped the run

A program ends with 0 if all went well, 1 if the answer is no, 70 after a fault in Jovik itself, and
141 if it measured and the reader of its pipe has gone.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from jovik.base.nearest_names import nearest


class JovikError(Exception):
    """The base of all errors. The message is one plain line, `hint` advises the user."""

    exit_status = 70

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint

    def __reduce__(self) -> tuple[Any, ...]:
        # A process that builds a page sends its error to the one that asked for the page. The
        # pool of processes waits forever for an error that it cannot read.
        return _rebuilt, (type(self), self.args, self.__dict__)


def _rebuilt(sort: type[JovikError], arguments: tuple[Any, ...], about: dict[str, Any]) -> Any:
    error = sort.__new__(sort, *arguments)
    error.__dict__.update(about)
    return error


class UsageError(JovikError):
    """The person's input cannot be understood or cannot be right."""

    exit_status = 2


class PhraseError(UsageError):
    """A step phrase that does not parse.

    Parameters
    ----------
    text : str
        The phrase as it was given.
    start, end : int
        The characters at fault, ``text[start:end]``; both may lie just behind the end.
    expected : str
        Possible words at this position.
    """

    def __init__(self, text: str, start: int, end: int, expected: str) -> None:
        self.text, self.start, self.end, self.expected = text, start, end, expected
        word = text[start:end]
        problem = f"'{word}' is not understood here" if word else "the phrase stops too early"
        marks = " " * start + "^" * max(1, end - start)
        super().__init__(f"{problem}\n  {text}\n  {marks}", f"expected {expected}")


class UnknownNameError(UsageError):
    """Something was called by a name that nothing has.

    Parameters
    ----------
    what : str
        The kind of thing, such as ``"drive"``.
    name : str
        The name that was given.
    known : iterable of str
        The names there are; the nearest are offered.
    otherwise : str
        Advice if none of them was meant.
    """

    def __init__(self, what: str, name: str, known: Iterable[str], otherwise: str = "") -> None:
        names = sorted(known)
        near = nearest(name, names)
        if near:
            hint = "nearest: " + ", ".join(near)
        elif names:
            hint = "there are: " + ", ".join(names[:8]) + (", ..." if len(names) > 8 else "")
        else:
            hint = ""
        super().__init__(
            f"there is no {what} called '{name}'",
            f"{hint}; {otherwise}" if hint and otherwise else hint or otherwise.removeprefix("or "),
        )


class UnknownRecordingError(UnknownNameError):
    """A replay names a recording that is neither a file nor shipped. A shelf may have it."""


class RefusedError(JovikError):
    """The target or the environment refused."""

    exit_status = 3


class TargetError(RefusedError):
    """The target cannot be used for this."""


class OutputError(RefusedError):
    """A file that Jovik was to write cannot be written."""


class EngineUnavailableError(RefusedError):
    """The system does not offer a feature that the engine needs."""


class MissingPackageError(RefusedError):
    """A package that only some commands need is not installed."""


class ShelfError(RefusedError):
    """The shelf cannot be opened, read or written."""


class ShelfUnreachableError(ShelfError):
    """The server that the shelf is on cannot be reached just now."""


class DriveError(JovikError):
    """The drive failed during a test. Earlier measurements are kept."""

    exit_status = 4


class RunInterrupted(JovikError):
    """The user stopped the run. Finished passes are kept."""

    exit_status = 130
