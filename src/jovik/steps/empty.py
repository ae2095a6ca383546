"""An empty: discard all space that Jovik took, and tell the drive so by TRIM."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.base.quantities import show_size
from jovik.steps.step import FreshStart

if TYPE_CHECKING:
    from jovik.base.io_session import ProgressCallback
    from jovik.runs.running_step import RunningStep


@dataclass(frozen=True)
class EmptyStep(FreshStart):
    """Discard the space that Jovik took, and tell the drive if the file system can."""

    word: ClassVar[str] = "empty"

    @override
    def prepare(self, run: RunningStep, watch: ProgressCallback) -> tuple[str, None]:
        given = run.session.empty()
        run.context.filled_percent = None
        more = f"; {given.note}" if given.note else ""
        return f"discarded {show_size(given.freed_bytes)}{more}", None
