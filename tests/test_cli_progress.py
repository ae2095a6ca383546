"""What is seen while a run goes on.

The live screen at several sizes, the lines of a pipe, and which of them is chosen.
"""

from __future__ import annotations

import io
import re
import subprocess
import sys
from pathlib import Path

import pytest
from rich.console import Console

from jovik.analysis.step_result import Conditions, PassFigures, StepResult
from jovik.base.io_session import Progress
from jovik.cli import live_view as live_module
from jovik.cli.line_progress import LineProgress
from jovik.cli.live_view import LiveView, _round_up
from jovik.cli.progress_display import result_words
from jovik.cli.run_display import screen_for
from jovik.queries.aims import aims_of
from jovik.runs.repetition import RepetitionPolicy
from jovik.runs.task import Task, tasks_of
from jovik.simulator import load_model
from jovik.steps import Plan, parse
from tests.conftest import Program
from tests.programs import on_a_terminal

TASKS = [
    Task(parse(p), RepetitionPolicy(3, 3) if parse(p).measures else RepetitionPolicy(1, 1))
    for p in (
        "random read 4KiB depth 32",
        "rest until recovered",
        "sequential write 1MiB over 8GB",
        'copy in "a\x1b[31mb"',
        "empty",
    )
]
TIMES = [30 * 10**9, 30 * 10**9, 20 * 10**9, 10**10, 10**9]


def result(
    phrase: str,
    rate: float = 5e8,
    passes: int = 3,
    written: int = 10**9,
    notes: tuple[str, ...] = (),
) -> StepResult:
    figures = tuple(
        PassFigures(rate * x, rate, rate / 4096, 0, written, 10**9, 0, 0)
        for x in (1, 1.01, 0.99)[:passes]
    )
    return StepResult(phrase, phrase, figures, {}, Conditions("io_uring", True, 2**30), notes=notes)


class ProgressDisplay:
    """A live view on a terminal of so many cells, read as text."""

    def __init__(
        self, width: int, height: int, monkeypatch: pytest.MonkeyPatch, budget_ns: int | None = None
    ) -> None:
        self.now = 1000.0
        monkeypatch.setattr(live_module.time, "monotonic", lambda: self.now)
        self.out = io.StringIO()
        self.console = Console(
            file=self.out,
            width=width,
            height=height,
            force_terminal=True,
            highlight=False,
            markup=False,
        )
        self.view = LiveView("A drive\x1b[2J: full-review", TASKS, TIMES, self.console, budget_ns)

    def lines(self) -> list[str]:
        plain = Console(file=io.StringIO(), width=self.console.width, height=self.console.height)
        with plain.capture() as caught:
            plain.print(self.view._screen(self.now))
        return caught.get().rstrip("\n").split("\n")


@pytest.mark.parametrize(("width", "height"), [(120, 36), (80, 24), (72, 20), (200, 60)])
def test_the_screen_fits_its_terminal_and_says_what_is_going_on(
    width: int, height: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    screen = ProgressDisplay(width, height, monkeypatch)
    with screen.view as view:
        watch = view.passing(0, TASKS[0].step, 2)
        for tenth in range(200):
            screen.now += 0.1
            watch(
                Progress(
                    tenth * 10**8,
                    tenth * 10**7,
                    4e8 if tenth < 100 else 1e8,
                    0,
                    80_000.0,
                    240_000.0,
                    41.0,
                )
            )
        shown = screen.lines()
    assert len(shown) <= height - 1 and all(len(line) <= width for line in shown)
    text = "\n".join(shown)
    for said in (
        "random read, 4 KiB, depth 32",
        "step 1 of 5, pass 2 of 3",
        "100 MB/s",
        "24,400 IOPS",
        "p50 80.0 µs, p99 240 µs",
        "41 °C",
        "no errors",
        "a minute ago",
        "now",
        "rest until recovered",
    ):
        assert said in text, said
    assert "20 s elapsed, about 71 s remaining" in text
    assert "\x1b" not in text and "\N{REPLACEMENT CHARACTER}[2J: full-review" in text


def test_the_claim_the_class_the_warmth_and_what_is_left_stand_there(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    sheet = load_model("comet").sheet
    tasks = tasks_of(Plan.of(["random read 4KiB depth 8,16,32 for 1s", "empty"]))
    screen = ProgressDisplay(120, 40, monkeypatch)
    aims = aims_of(sheet, [t.step for t in tasks])
    console = screen.console
    screen.view = LiveView("A drive", tasks, [10**10] * 4, console, None, aims, 9 * 10**9)
    with screen.view as view:
        for position, rate in enumerate((4e8, 8e8)):
            view.finished(position, result(tasks[position].step.canonical, rate, written=0))
        watch = view.passing(2, tasks[2].step, 1)
        for second in range(30):
            screen.now += 1.0
            watch(Progress(second * 10**9, 0, 1.177e9, temperature_c=40.0 + second / 2))
        shown = "\n".join(screen.lines())
    assert "claimed up to 575,000 IOPS, now 50 % of it" in shown
    assert "usual for a PCIe 4.0 x4 SSD" in shown
    # A ladder grows: the second rung came to twice the first.
    bars = [
        len(re.findall("█", x)) for x in shown.splitlines() if "depth 8" in x or "depth 16" in x
    ]
    assert bars == [8, 16]
    curve = next(x for x in shown.splitlines() if x.strip().startswith("54 °C") or "▁" in x)
    assert curve.rstrip()[-1] in "▇█" and "▁" in curve
    assert "and 9.00 GB remaining" in shown


def test_the_chart_is_a_line_of_the_last_minute(monkeypatch: pytest.MonkeyPatch) -> None:
    screen = ProgressDisplay(120, 36, monkeypatch)
    with screen.view as view:
        watch = view.passing(0, TASKS[0].step, 1)
        for second in range(120):
            screen.now += 1.0
            watch(Progress(second * 10**9, 0, 4.9e8 if second < 90 else 0.4e8))
        means = live_module._by_column(screen.view._rates, 60, screen.now)
        chart = screen.view._chart(120, 12, screen.now)
    assert (
        len(means) == 60 and means[5] == pytest.approx(4.9e8) and means[-5] == pytest.approx(0.4e8)
    )
    dots = [re.sub(r"[^\u2801-\u28ff]", "", line.plain) for line in chart]
    # High for its first half, low for the second, and one stroke between the two.
    assert len(dots[0]) > 40 and len(dots[-3]) > 40 and all(dots[:-2]) and not dots[-2]
    assert chart[0].plain.strip().startswith("500 MB/s") and chart[-1].plain.strip().startswith(
        "a minute ago"
    )


@pytest.mark.parametrize(
    ("value", "top"),
    [(0.0, 0.0), (9e7, 1e8), (1e8, 1e8), (1.01e8, 2e8), (4.9e9, 5e9), (5.1e9, 1e10)],
)
def test_the_scale_stays_where_it_is_while_the_rate_wavers(value: float, top: float) -> None:
    assert _round_up(value) == pytest.approx(top)


def test_errors_rests_and_what_was_written_are_shown(monkeypatch: pytest.MonkeyPatch) -> None:
    screen = ProgressDisplay(120, 36, monkeypatch, budget_ns=45 * 10**9)
    with screen.view as view:
        view.preparing(0, TASKS[0].step, 2 * 10**9)(Progress(10**8, 10**8, 1e9))
        view.passing(0, TASKS[0].step, 1)(Progress(10**9, 10**9, 5e8, errors=3))
        assert "3 errors" in "\n".join(screen.lines()) and "written 2.00 GB" in "\n".join(
            screen.lines()
        )
        for number in (1, 2):
            view.passing(0, TASKS[0].step, number)(
                Progress(10**9, 10**9, 5e8, written_bytes=3 * 10**8)
            )
            assert f"written {2 + 0.3 * number:.2f} GB" in "\n".join(screen.lines()), (
                "the pass that goes on counts too"
            )
        view.finished(0, result(TASKS[0].step.canonical))
        screen.now += 40
        view.passing(1, TASKS[1].step, 1)(Progress(10**9, 0, 0.0, temperature_c=52.0))
        shown = "\n".join(screen.lines())
        assert "1.00 s so far   52 °C" in shown and "step 2 of 5, one pass" in shown
        assert "✓ random read, 4 KiB, depth 32" in shown and "500 MB/s" in shown
        assert "about 5.0 s remaining" in shown, "a budget ends before what was expected does"
        screen.now += 30
        assert "nearly done" in "\n".join(screen.lines())


def test_the_screen_goes_and_what_is_lasting_stays(monkeypatch: pytest.MonkeyPatch) -> None:
    screen = ProgressDisplay(100, 30, monkeypatch)
    with screen.view as view:
        view.say("before it begins")
        view.passing(3, TASKS[3].step, 1)
        view.say("warning: a warning\nof two lines \x1b[2J")
        view.finished(3, result('copy in "x"', notes=("done",)))
    said = screen.out.getvalue()
    after = said[said.rindex("\x1b[?1049l") :]
    assert (
        said.index("before it begins") < said.index("\x1b[?1049h")
        and "warning: a warning\nof two lines" in after
    )
    assert (
        "[4/5] copy in" in after
        and "500 MB/s" in after
        and "\x1b[2J" not in after
        and "\x1b[31m" not in said
    )


def test_it_is_drawn_twice_a_second_at_most(monkeypatch: pytest.MonkeyPatch) -> None:
    screen = ProgressDisplay(100, 30, monkeypatch)
    drawn: list[float] = []
    monkeypatch.setattr(LiveView, "_screen", lambda self, now: drawn.append(now) or "")
    with screen.view as view:
        watch = view.passing(0, TASKS[0].step, 1)
        for _ in range(100):
            screen.now += 0.1
            watch(Progress(1, 1, 1.0))
    assert 15 <= len(drawn) <= 21


def test_a_pipe_gets_plain_lines(capsys: pytest.CaptureFixture[str]) -> None:
    lines = screen_for("x", TASKS, TIMES, None)
    assert isinstance(lines, LineProgress)
    with lines:
        lines.preparing(0, TASKS[0].step, 10**9)(Progress(1, 1, 1.0))
        lines.passing(0, TASKS[0].step, 1)(Progress(1, 1, 1.0))
        lines.finished(0, result(TASKS[0].step.canonical))
        lines.finished(1, result("rest until recovered", passes=1, notes=("recovered at once",)))
        lines.say("a\x1b[31mb\nc")
    said = capsys.readouterr().err
    assert "[1/5] prefilling 1.00 GB of test file\n" in said
    assert re.search(
        r"\[1/5\] random read 4KiB depth 32: 500 MB/s, 95 % interval 4[89]\d MB/s to 51\d MB/s\n",
        said,
    )
    assert (
        "[2/5] rest until recovered: recovered at once\n" in said
        and "\x1b" not in said
        and "\r" not in said
    )


def test_a_finished_step_in_a_few_words() -> None:
    assert result_words(result("random read 4KiB", passes=1)) == "500 MB/s"
    assert (
        result_words(result("empty", notes=("discarded 1 GB",))) == "discarded 1 GB"
        and result_words(result("empty")) == "done"
    )


def test_a_terminal_gets_the_screen_and_a_small_one_does_not(
    jovik: Program, tmp_path: Path
) -> None:
    """By the real program, on pseudo-terminals of two sizes."""
    jovik("sheet", "new", "Own Disk")
    words = jovik.command(
        "measure",
        ".",
        "--drive",
        "Own Disk",
        "random read 4KiB for 1s within 1MiB",
        "--passes",
        "2",
    )
    for rows, columns, full in ((36, 120, True), (12, 60, False)):
        status, said = on_a_terminal(
            words, jovik.env, rows=rows, columns=columns, folder=jovik.folder, only_errors=True
        )
        assert status == 0
        assert (b"\x1b[?1049h" in said) == full and (b"\x1b[?1049l" in said) == full
        assert b"random read" in said and (b"a minute ago" in said) == full


IMPATIENT = """
from jovik.cli import main, waiting_line
waiting_line.PATIENCE_S = waiting_line.EACH_S = 0
main()
"""


def test_long_work_shows_how_far_it_is_on_a_terminal_only(shown: Program) -> None:
    shown("shelf", "export", "--out", "all.zip")
    every = {
        "runs": ["shelf", "import", "all.zip", "--shelf", "other.db"],
        "passes": ["shelf", "check"],
        "steps": ["twin", "Veldhaar Comet 2TB"],
    }
    for what, words in every.items():
        command = [sys.executable, "-c", IMPATIENT, *words]
        status, said = on_a_terminal(
            command, shown.env, rows=30, columns=100, folder=shown.folder, only_errors=True
        )
        assert status == 0, said
        found = re.search(
            rf"\r\x1b\[K[\d,]+ of [\d,]+ {what}, about [\d.]+ \w+ left".encode(), said
        )
        assert found and b"\r\x1b[K" in said[found.end() :]  # and removes it
    words = [sys.executable, "-c", IMPATIENT, "shelf", "check"]
    piped = subprocess.run(words, env=shown.env, capture_output=True, check=True)
    assert piped.stderr == b""
