"""Input that no user means: each ends in one clear error and a documented status.

Never in a fault of Jovik itself, which has a status of its own (70), and never with a statement of
the database on the screen.
"""

from __future__ import annotations

import json
import os
import random
import subprocess
from collections.abc import Iterator
from pathlib import Path

import click
import pytest

from jovik.cli import COMMANDS, FAULT, PIPE_CLOSED
from jovik.cli import jovik as top
from tests.conftest import Program

STATUSES = {0, 1, 2, 3, 4, 130}
LINES = int(os.environ.get("JOVIK_COMMAND_LINES", "100"))
"""How many generated command lines to try; 2,000 before a release."""
SLATE = "Corvane Slate 1TB"


@pytest.mark.parametrize(
    ("content", "said"),
    [
        ("0,nan\n1,2\n", "not a time and a value"),
        ("0,1\n1,inf\n", "not a time and a value"),
        ("0,1e308\n1,1e308\n", "not a time and a value"),
        ("0,1\n-inf,2\n", "not a time and a value"),
        ("0,1\n1e300,2\n", "not a time and a value"),
        ('0,1\n1,"' + "2" * 131_073 + '"\n', "longer than 100,000 letters"),
        ('0,1\n"' + "a\n" * 70_000 + '",2\n', "field larger than field limit"),
        ("0,1\n1,2\x00\n", "line 2"),
    ],
)
def test_a_log_that_no_instrument_writes_is_refused(
    shown: Program, content: str, said: str
) -> None:
    (shown.folder / "log.csv").write_text(content)
    run = shown("runs", SLATE, "--format", "json").json["runs"][0]["run"]
    words = ["note", SLATE, "--log", "log.csv", "--run", run, "--quantity", "power", "--unit", "W"]
    told = shown(*words, status=2).err
    assert said in told and "INSERT" not in told.upper(), told


@pytest.mark.parametrize("value", ["nan", "inf", "1e308", "-1e308"])
def test_a_reading_without_a_figure_is_refused(shown: Program, value: str) -> None:
    told = shown("note", SLATE, "--reading", f"noise={value} dB(A)", status=2).err
    assert len(told.splitlines()) <= 2, told
    (shown.folder / "r.csv").write_text(f"what,value,unit\nnoise,{value},dB\n")
    assert "r.csv, line 2" in shown("note", SLATE, "--csv", "r.csv", status=2).err


def run_bytes(program: Program, *words: bytes, **env: str) -> subprocess.CompletedProcess[bytes]:
    command = [w.encode() if isinstance(w, str) else w for w in program.command()]
    return subprocess.run(
        [*command, *words],
        cwd=program.folder,
        env=program.env | env,
        capture_output=True,
        check=False,
    )


def test_an_argument_that_is_no_text_is_refused_and_a_file_of_such_a_name_is_read(
    shown: Program,
) -> None:
    for words in ([b"sheet", b"new", b"ab\xff"], [b"note", b"ab\xff", b"--pro", b"x"]):
        done = run_bytes(shown, *words)
        assert done.returncode == 2 and done.stderr.startswith(b"jovik: argument "), done.stderr
    os.makedirs(os.fsencode(shown.folder) + b"/in\xff")
    place = os.fsencode(shown.folder) + b"/in\xff/s.db"
    Path(os.fsdecode(place)).write_bytes(shown.shelf.read_bytes())
    assert run_bytes(shown, b"rank", b"--shelf", place).returncode == 0
    assert run_bytes(shown, b"report", b"--all", b"--out", os.path.dirname(place)).returncode == 0


def test_a_terminal_without_utf8_gets_plain_letters_and_whole_data(shown: Program) -> None:
    ascii_only = {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"}
    done = run_bytes(shown, b"rank", **ascii_only)
    assert done.returncode == 0 and b" us " in done.stdout, done.stderr
    done.stdout.decode("ascii")
    place = shown.folder / "größe.db"
    place.write_bytes(shown.shelf.read_bytes())
    assert run_bytes(shown, b"rank", b"--shelf", os.fsencode(place), **ascii_only).returncode == 0
    new = run_bytes(shown, b"report", b"--all", b"--out", "ö.html".encode(), **ascii_only)
    assert new.returncode == 2 and b"in this locale" in new.stderr, new.stderr
    for form in (b"json", b"csv"):
        run_bytes(shown, b"sheet", b"new", "Größe µ".encode(), **ascii_only)
        told = run_bytes(shown, b"sheet", b"list", b"--format", form, **ascii_only).stdout
        names = json.loads(told)["drives"] if form == b"json" else told.decode()
        assert "Größe µ" in str(names), told


def test_a_fault_has_a_status_of_its_own_and_shows_no_statement(shown: Program) -> None:
    """A shelf whose table was changed under it: a fault that no check foresees."""
    code = (
        "import os, sqlalchemy as sa, sys\n"
        "from jovik.shelf.engines import open_engine\n"
        "from jovik.shelf.sheets import Sheets\n"
        "def drive_names(self, *_):\n"
        "    with open_engine(os.environ['JOVIK_SHELF'], create=False).begin() as c:\n"
        "        c.execute(sa.text('insert into drive (id, name) values (:a, :secret)'), "
        "{'a': 1, 'secret': 'S3cr3t'})\n"
        "Sheets.get = Sheets.drives = Sheets.names = drive_names\n"
        "sys.argv = ['jovik', 'sheet', 'list']\n"
        "from jovik.cli import main\n"
        "main()\n"
    )
    words = [shown.command()[0], "-c", code]
    env = shown.env | {"XDG_STATE_HOME": str(shown.folder / "state")}
    done = subprocess.run(words, env=env, capture_output=True, text=True, check=False)
    assert done.returncode == FAULT == 70, done.stderr
    kept = (shown.folder / "state" / "jovik" / "last-fault.txt").read_text()
    for text in (done.stderr, kept):
        assert "IntegrityError" in text and "S3cr3t" not in text and "insert" not in text.lower()


def leaves(
    command: click.Command, words: tuple[str, ...] = ()
) -> Iterator[tuple[tuple[str, ...], click.Command]]:
    """Every command that does something, with the words that call it."""
    if isinstance(command, click.Group):
        ctx = click.Context(command)
        for name in command.list_commands(ctx):
            member = command.get_command(ctx, name)
            assert member is not None
            yield from leaves(member, (*words, name))
    else:
        yield words, command


VALUES = [
    *("", " ", "-", "--", "0", "-1", "1", "3", "nan", "inf", "1e308", "9" * 400, "2GB", "5s", "1h"),
    *("model:comet", "model:none", ".", "/", "/dev/null", "/dev/zero", "none.csv", "out.html"),
    *(SLATE, "Veldhaar Comet 2TB", "last", "random read 4KiB for 100ms", "first-look", "'", '"'),
    *(
        "\n",
        "\x1b[31m",
        "\u202e",
        "é" * 300,
        "a" * 5000,
        "%s",
        "{}",
        "../x",
        "~",
        "*",
        "b\udcff",
    ),
    *("table", "json", "csv", "2026-11-30", "power", "W", "power=3 W", "noise=nan", "x" * 70),
]
SLOW = {
    ("demo",),
    ("ceiling",),
    ("completion",),
    ("record", "take"),
    ("measure",),
    ("repeat",),
    ("resume",),
}
"""Those that work for long whatever they are given; they get a target that refuses at once."""


def command_line(
    chance: random.Random, every: list[tuple[tuple[str, ...], click.Command]]
) -> list[str]:
    words, command = chance.choice(every)
    line = list(words)
    for parameter in command.params:
        if isinstance(parameter, click.Option):
            if parameter.name in ("help", "every_drive") or chance.random() > 0.3:
                continue
            line.append(chance.choice(parameter.opts))
            if not (parameter.is_flag or parameter.count):
                line.append(chance.choice(VALUES))
        else:
            count = 1 if parameter.nargs > 0 else chance.randrange(3)
            line += [chance.choice(VALUES) for _ in range(count) if chance.random() < 0.9]
    if words in SLOW and "--dry-run" not in line:
        line += ["--dry-run"] if any("--dry-run" in p.opts for p in command.params) else ["--none"]
    return line


def test_generated_command_lines_end_with_a_documented_status(shown: Program) -> None:
    every = list(leaves(top))
    assert len(every) > 40 and len(COMMANDS) > 20
    chance = random.Random(LINES)
    shown.env |= {"EDITOR": "true", "JOVIK_SHELF_PATIENCE_S": "1", "HOME": str(shown.folder)}
    shown.env |= {f"XDG_{x}_HOME": str(shown.folder / x) for x in ("DATA", "STATE", "CACHE")}
    for number in range(LINES):
        line = command_line(chance, every)
        answer = shown(*line, status=None, timeout=120)
        assert answer.status in STATUSES, (number, line, answer.status, answer.err)
        assert "INSERT INTO" not in answer.err and "SELECT " not in answer.err, (line, answer.err)


@pytest.mark.parametrize(
    ("words", "status"),
    [
        (["measure", "model:comet", "random read 4KiB for 100ms", "--passes", "2"], PIPE_CLOSED),
        (["rank"], 0),
    ],
)
def test_a_measurement_whose_reader_has_gone_says_so(
    shown: Program, words: list[str], status: int
) -> None:
    readable, writable = os.pipe()
    os.close(readable)
    done = subprocess.run(
        shown.command(*words),
        cwd=shown.folder,
        env=shown.env,
        stdout=writable,
        stderr=subprocess.PIPE,
        text=True,
        check=False,
    )
    os.close(writable)
    assert done.returncode == status, done.stderr
    assert "Traceback" not in done.stderr
