"""A step: one line of a plan, whatever it does, and its one canonical spelling."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod


class Step(ABC):
    """What one phrase says. `parts` is all that a sort of step has to spell.

    The rest follows from it.
    """

    @property
    def reads(self) -> bool:
        """Whether any of it reads from the target."""
        return False

    @property
    def writes(self) -> bool:
        """Whether any of it writes to the target."""
        return False

    @property
    def measures(self) -> bool:
        """Whether its result is a figure of the drive, that may be ranked.

        A rest or a fill is only something done.
        """
        return True

    @property
    def once(self) -> bool:
        """Whether it is made once unless more passes are asked for."""
        return False

    @abstractmethod
    def parts(self, *, timed: bool = True) -> list[str]:
        """The phrase in parts, in the one order; `timed` leaves the `for` part in."""

    @property
    def canonical(self) -> str:
        """The one spelling: units normalised, parts in one order, defaults left out."""
        return " ".join(self.parts())

    @property
    def kind(self) -> str:
        """The canonical spelling without its time: results of one kind may be compared."""
        return " ".join(self.parts(timed=False))

    @property
    def label(self) -> str:
        """For tables and pictures: ``random read, 4 KiB, depth 32``."""
        spaced = [
            p if '"' in p else re.sub(r"(\d)([A-Za-z])", r"\1 \2", p)
            for p in self.parts(timed=False)
        ]
        return ", ".join(spaced)
