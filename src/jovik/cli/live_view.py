"""The live view: one calm screen for a run in a terminal, on standard error.

It is drawn in the main thread, twice a second, from what the session glances at anyway;
`benchmarks/live.py` shows that it costs the measurement nothing.
"""

from __future__ import annotations

import math
import statistics
import time
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from rich.console import Console, Group
from rich.live import Live as RichLive
from rich.text import Text

from jovik.analysis.step_result import StepResult
from jovik.base.io_session import Progress
from jovik.base.quantities import show_rate, show_size, show_time, significant
from jovik.base.terminal_text import strip_control
from jovik.cli.echo import between_words
from jovik.cli.progress_display import result_words
from jovik.cli.run_clock import RunClock
from jovik.queries.aims import Aim
from jovik.runs.task import Task
from jovik.steps import IoStep, Step
from jovik.tables.drive_class import usual_words

LEAST_COLUMNS, LEAST_ROWS = 72, 20
DRAW_S = 0.5
MINUTE_S = 60
BRAILLE = 0x2800
DOTS = ((0x40, 0x04, 0x02, 0x01), (0x80, 0x20, 0x10, 0x08))
"""Dot bits of a Braille character, two columns from the bottom up (Unicode Braille Patterns)."""
EIGHTHS = "▁▂▃▄▅▆▇█"
RUNG_WIDTH = 16
CHART_MARGIN = 10
"""Columns left of the chart, for its numbers."""


class LiveView:
    """Shows a run (`jovik.runs.context.Observer`).

    A context manager that gives the terminal back as it was.

    Parameters
    ----------
    title : str
    tasks : sequence of Task
    times_ns : sequence of int
        How long each is expected to take.
    console : rich Console
    budget_ns : int, optional
        Time for all of it.
    aims : sequence of Aim, optional
        The references of each task.
    expected_bytes : int, optional
        The bytes that all of it writes.
    """

    def __init__(
        self,
        title: str,
        tasks: Sequence[Task],
        times_ns: Sequence[int],
        console: Console,
        budget_ns: int | None = None,
        aims: Sequence[Aim] = (),
        expected_bytes: int | None = None,
    ) -> None:
        self._aims, self._expected = aims, expected_bytes
        self._came_to: dict[int, float] = {}
        self._warm: deque[tuple[float, float]] = deque()
        self._title, self._tasks, self._console = title, tasks, console
        self._words: dict[int, str] = {}
        self._said: list[str] = []
        # Finished steps and what was laid out; the finished passes of this step; this pass, unless
        # it is a prefilling.
        self._written, self._of_step, self._of_pass, self._laying = 0, 0, 0, False
        self._position, self._doing, self._clock = 0, "", RunClock(times_ns, budget_ns)
        self._live: Progress | None = None
        self._rates: deque[tuple[float, float]] = deque()
        self._drawn = 0.0
        self._shown: RichLive | None = None

    def __enter__(self) -> LiveView:
        return self

    def __exit__(self, *exc: object) -> None:
        if self._shown is not None:
            self._shown.stop()
            self._shown = None
            # The screen is gone with its last state: what is lasting stays behind as lines.
            for position, words in sorted(self._words.items()):
                phrase = strip_control(self._tasks[position].step.canonical)
                at = f"[{position + 1}/{len(self._tasks)}]"
                self._print(f"{at} {phrase}: {words}")
        for line in self._said:
            self._print(line)
        self._said = []

    def say(self, line: str) -> None:
        """One lasting line: at once before the screen is up, behind it afterwards."""
        line = "\n".join(strip_control(x) for x in line.split("\n"))
        if self._shown is None:
            self._print(line)
        else:
            self._said.append(line)

    def _print(self, line: str) -> None:
        self._console.print(between_words(line, self._console.width), soft_wrap=True)

    def preparing(self, position: int, step: Step, size_bytes: int) -> Callable[[Progress], None]:
        """Report that the test file is being laid out."""
        self._begin(position, f"prefilling {show_size(size_bytes)} of test file")
        self._written += size_bytes
        self._laying = True
        return self._look

    def passing(self, position: int, step: Step, number: int) -> Callable[[Progress], None]:
        """Report the progress of a pass."""
        most = self._tasks[position].repeat.most
        self._begin(position, f"pass {number} of {most}" if most > 1 else "one pass")
        self._of_step, self._of_pass, self._laying = self._of_step + self._of_pass, 0, False
        return self._look

    def finished(self, position: int, result: StepResult) -> None:
        """Show a finished step."""

        self._words[position] = result_words(result)
        if result.passes:
            self._came_to[position] = statistics.median(p.rate_bytes_s for p in result.passes)
        self._written += sum(p.written_bytes for p in result.passes)
        self._of_step = self._of_pass = 0

    def _begin(self, position: int, doing: str) -> None:
        self._clock.at(position)
        if position != self._position:
            self._position = position
            self._rates.clear()
        self._doing, self._live = doing, None
        if self._shown is None:
            self._shown = RichLive(
                console=self._console,
                screen=True,
                auto_refresh=False,
                redirect_stdout=False,
                redirect_stderr=False,
            )
            self._shown.start()
        self._draw()

    def _look(self, live: Progress) -> None:
        now = time.monotonic()
        self._live = live
        self._of_pass = 0 if self._laying else live.written_bytes
        self._rates.append((now, live.rate_bytes_s))
        if live.temperature_c is not None:
            self._warm.append((now, live.temperature_c))
        for series in (self._rates, self._warm):
            while series and now - series[0][0] > MINUTE_S:
                series.popleft()
        self._draw()

    def _draw(self) -> None:
        now = time.monotonic()
        if self._shown is None or now - self._drawn < DRAW_S:
            return
        self._drawn = now
        self._shown.update(self._screen(now), refresh=True)

    def _screen(self, now: float) -> Any:
        """Return all of it, for the terminal as wide and high as it is just now."""
        width, height = self._console.width, self._console.height
        step = self._tasks[self._position].step
        lines = [
            self._pair(
                Text(strip_control(self._title), style="bold"),
                Text(self._left(now), style="dim"),
                width,
            ),
            self._bar(now, width),
            Text(""),
            self._pair(
                Text(strip_control(step.label), style="bold"),
                Text(
                    f"step {self._position + 1} of {len(self._tasks)}, {self._doing}", style="dim"
                ),
                width,
            ),
            Text(""),
            *self._figures(step),
            *self._against(step),
            Text(""),
        ]
        lines += self._warmth(width, now)
        rest = height - len(lines) - 1
        around = min(max(rest // 2 - 2, 3), 8)
        lines += self._chart(width, max(rest - around - 3, 3), now)
        lines.append(Text(""))
        lines += self._list(around, width)
        for line in lines:
            line.no_wrap, line.overflow = True, "ellipsis"
        return Group(*lines[: height - 1])

    @staticmethod
    def _pair(left: Text, right: Text, width: int) -> Text:
        """Return one text at either end of a line. The left one is shortened."""
        room = max(width - right.cell_len - 2, 8)
        left.truncate(room, overflow="ellipsis")
        return Text.assemble(left, " " * (width - left.cell_len - right.cell_len), right)

    def _left(self, now: float) -> str:
        gone, remaining_s = now - self._clock.began, self._clock.remaining_s(now)
        rest = f"about {show_time(remaining_s * 1e9, 2)}" if remaining_s >= 1 else "nearly done"
        written = self._written + self._of_step + self._of_pass
        if remaining_s >= 1:
            to_write = max((self._expected or 0) - written, 0)
            rest += f" and {show_size(to_write)} remaining" if to_write else " remaining"
        return f"{show_time(gone * 1e9, 2)} elapsed, {rest}"

    def _bar(self, now: float, width: int) -> Text:
        """Return the fraction of the expected time that has passed."""
        full = round(self._clock.share(now) * width)
        return Text.assemble(("━" * full, "magenta"), ("─" * (width - full), "dim"))

    def _figures(self, step: Step) -> list[Text]:
        live = self._live
        if live is None:
            return [Text("  ..."), Text("")]
        if not step.measures and not live.done_bytes:
            warm = f"   {live.temperature_c:.0f} °C" if live.temperature_c is not None else ""
            return [Text(f"  {show_time(live.elapsed_ns)} so far{warm}"), Text("")]
        one = Text("  ").append(show_rate(live.rate_bytes_s), style="bold magenta")
        if isinstance(step, IoStep):
            one.append(f"   {significant(live.rate_bytes_s / step.block_bytes)} IOPS")
        if live.p50_ns is not None and live.p99_ns is not None:
            one.append(f"   p50 {show_time(live.p50_ns)}, p99 {show_time(live.p99_ns)}")
        two = Text("  ")
        written = self._written + self._of_step + self._of_pass
        two.append(
            f"{show_time(live.elapsed_ns)} elapsed   moved {show_size(live.done_bytes)}   "
            f"written {show_size(written)}"
        )
        if live.temperature_c is not None:
            two.append(f"   {live.temperature_c:.0f} °C")
        two.append(
            "   no errors" if not live.errors else f"   {live.errors} errors",
            style="" if not live.errors else "bold red",
        )
        return [one, two]

    def _against(self, step: Step) -> list[Text]:
        """Return the rate beside the claim, and the usual figure of the class."""
        aim = self._aims[self._position] if self._aims else None
        if aim is None or not isinstance(step, IoStep):
            return []
        parts = []
        claimed = aim.claimed_bytes_s(step.block_bytes)
        if claimed is not None and aim.claim is not None:
            so_far = ""
            if self._live is not None and self._live.rate_bytes_s > 0:
                so_far = f", now {100 * self._live.rate_bytes_s / claimed:.0f} % of it"
            up_to = "up to " if aim.claim.up_to else ""
            parts.append(f"claimed {up_to}{aim.claim.shown()}{so_far}")
        if aim.usual is not None:
            parts.append(f"usual for a {aim.class_title}: {usual_words(aim.usual)}")
        return [Text(f"  {'; '.join(parts)}", style="dim")] if parts else []

    def _warmth(self, width: int, now: float) -> list[Text]:
        """Return the temperature of the last minute as a line of its own.

        Nothing where none is read.
        """
        if not self._warm:
            return []
        columns = max(width - CHART_MARGIN - 2, 10)
        low = math.floor(min(c for _, c in self._warm)) - 1
        high = max(math.ceil(max(c for _, c in self._warm)) + 1, low + 8)
        cells = _by_column(self._warm, columns, now)
        levels = [
            " " if c is None else EIGHTHS[min(int((c - low) / (high - low) * 8), 7)] for c in cells
        ]
        label = f"{self._warm[-1][1]:.0f} °C"
        return [Text.assemble((f"{label:>{CHART_MARGIN}} ", "dim"), ("".join(levels), "magenta"))]

    def _chart(self, width: int, rows: int, now: float) -> list[Text]:
        """Return the rate over the last minute as a line, newest at the right, in Braille dots.

        Two by four to a character.
        """
        columns = max(width - CHART_MARGIN - 2, 10)
        means = _by_column(self._rates, 2 * columns, now)
        top = _round_up(max((v for v in means if v is not None), default=0.0))
        dots = [[0] * columns for _ in range(rows)]
        before: int | None = None
        for x, value in enumerate(means):
            if value is None or not top:
                continue
            at = min(round(value / top * (4 * rows - 1)), 4 * rows - 1)
            # A step from one value to the next is drawn too, or the line would fall apart.
            for y in range(
                min(at, before if before is not None else at),
                max(at, before if before is not None else at) + 1,
            ):
                dots[rows - 1 - y // 4][x // 2] |= DOTS[x % 2][y % 4]
            before = at
        lines = []
        for row, line in enumerate(dots):
            label = show_rate(top) if row == 0 and top else "0" if row == rows - 1 and top else ""
            lines.append(
                Text.assemble(
                    (f"{label:>{CHART_MARGIN}} ", "dim"),
                    ("".join(chr(BRAILLE + d) for d in line), "magenta"),
                )
            )
        lines.append(Text(f"{'':>{CHART_MARGIN}} {'a minute ago':<{columns - 3}}now", style="dim"))
        return lines

    def _list(self, count: int, width: int) -> list[Text]:
        """Return the steps around this one: finished ones with their results, and the next."""
        first = max(min(self._position - count // 2, len(self._tasks) - count), 0)
        lines = []
        for number in range(first, min(first + count, len(self._tasks))):
            words = self._words.get(number, "")
            mark = "▶" if number == self._position else "✓" if words else " "
            style = "bold" if number == self._position else "" if words else "dim"
            bar = self._rung_bar(number)
            label = Text(f"{mark} {strip_control(self._tasks[number].step.label)}", style=style)
            label.append(f"  {bar}" if bar else "", style="magenta")
            lines.append(
                self._pair(label, Text(words.split(", 95 %")[0].split(":")[0], style=style), width)
            )
        return lines

    def _rung_bar(self, number: int) -> str:
        """Return the results of the current ladder's finished rungs, as bars."""
        ladder = self._tasks[self._position].ladder
        if ladder is None or self._tasks[number].ladder != ladder or number not in self._came_to:
            return ""
        rungs = [v for n, v in self._came_to.items() if self._tasks[n].ladder == ladder]
        return "█" * max(round(RUNG_WIDTH * self._came_to[number] / max(rungs)), 1)


def _by_column(
    series: Iterable[tuple[float, float]], columns: int, now: float
) -> list[float | None]:
    """Return the mean of each part of the last minute.

    The time between two looks is filled with the earlier one.
    """
    cells: list[list[float]] = [[] for _ in range(columns)]
    for at, value in series:
        cells[min(int((1 - (now - at) / MINUTE_S) * columns), columns - 1)].append(value)
    means: list[float | None] = []
    for cell in cells:
        means.append(sum(cell) / len(cell) if cell else means[-1] if means else None)
    return means


def _round_up(value: float) -> float:
    """Return the next of 1, 2, 5 times a power of ten.

    A scale that stays where it is while the rate wavers.
    """
    if value <= 0:
        return 0.0
    power = 10 ** math.floor(math.log10(value))
    return float(next(s * power for s in (1, 2, 5, 10) if s * power >= value))
