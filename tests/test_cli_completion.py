"""The Tab key in real shells, through a pseudo-terminal."""

from __future__ import annotations

import os
import pty
import select
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.cli.shell_completion import fitting, split_half_line
from tests.conftest import Program, call

START = {
    "bash": ["bash", "--norc", "--noprofile", "-i"],
    "zsh": ["zsh", "-f", "-i"],
    "fish": ["fish", "--private", "--no-config", "-i"],
}
SETUP = {
    "bash": """args() { printf '[%s]' "$@"; echo; }; bind 'set bell-style none'; """
    """eval "$(jovik completion bash)"; echo rea""",
    "zsh": """args() { printf '[%s]' "$@"; echo; }; bindkey -e; autoload -U compinit; """
    """compinit -u -D; eval "$(jovik completion zsh)"; echo rea""",
    "fish": """function args; printf '[%s]' $argv; echo; end; """
    """jovik completion fish | source; echo rea""",
}
"""What makes the shell ready; it says so at its end (in two parts, so that its echo does not)."""
CASES = [
    ("jovik measure model:com", "[jovik][measure][model:comet]"),
    ("jovik rank --by mon", "[jovik][rank][--by][money]"),
    ("jovik judge Veldh", "[jovik][judge][Veldhaar Comet 2TB]"),
    ('jovik judge "Veldh', "[jovik][judge][Veldhaar Comet 2TB]"),
    ("jovik judge 'Veldhaar C", "[jovik][judge][Veldhaar Comet 2TB]"),
    ("jovik measure . --plan full", "[jovik][measure][.][--plan][full-review]"),
]


class Terminal:
    """A shell that somebody types into."""

    def __init__(self, words: list[str], env: dict[str, str], folder: Path) -> None:
        self.pid, self.end = pty.fork()
        if self.pid == 0:
            os.chdir(folder)
            os.execvpe(words[0], words, env)
        self.seen = ""

    def type(self, text: str) -> None:
        os.write(self.end, text.encode())

    def until(self, wanted: str, seconds: float = 60) -> str:
        end = time.monotonic() + seconds
        while wanted not in self.seen:
            left = end - time.monotonic()
            assert left > 0, f"no {wanted!r} in {self.seen!r}"
            if select.select([self.end], [], [], min(left, 0.5))[0]:
                got = os.read(self.end, 65536)
                self.seen += got.decode(errors="replace")
                # Who asks where the cursor is, or what the terminal can do, is told.
                if b"\x1b[c" in got or b"\x1b[0c" in got:
                    self.type("\x1b[?62;c")
                if b"\x1b[6n" in got:
                    self.type("\x1b[1;1R")
        found, self.seen = self.seen.split(wanted, 1)
        return found

    def pause(self, quiet_s: float = 1.0, most_s: float = 20) -> None:
        """Wait until nothing more comes."""
        end = time.monotonic() + most_s
        while time.monotonic() < end and select.select([self.end], [], [], quiet_s)[0]:
            self.seen += os.read(self.end, 65536).decode(errors="replace")

    def close(self) -> None:
        os.kill(self.pid, signal.SIGKILL)
        os.waitpid(self.pid, 0)
        os.close(self.end)


@pytest.mark.parametrize("shell", list(START))
def test_the_tab_key_completes(shown: Program, shell: str) -> None:
    completes(shown, shell, CASES if shell == "bash" else CASES[:3])


@pytest.mark.parametrize("shell", list(START))
def test_a_name_with_a_comma_is_completed_whole(jovik: Program, shell: str) -> None:
    jovik("sheet", "new", "Vela, small")
    completes(jovik, shell, [("jovik judge Vel", "[jovik][judge][Vela, small]")])


def completes(program: Program, shell: str, cases: list[tuple[str, str]]) -> None:
    if shutil.which(shell) is None:
        pytest.skip(f"no {shell} here")
    path = f"{Path(sys.executable).parent}:{program.env['PATH']}"
    env = program.env | {"PATH": path, "TERM": "xterm", "HOME": str(program.folder), "PS1": "> "}
    terminal = Terminal(START[shell], env, program.folder)
    try:
        terminal.type(SETUP[shell] + ("''dy\n" if shell != "fish" else "(string join '' d y)\n"))
        terminal.until("ready")
        terminal.pause()
        for typed, wanted in cases:
            terminal.type(typed + "\t")
            terminal.pause(1.2)
            terminal.type("\x01args \n")
            terminal.until(wanted)
            terminal.pause(0.3)
    finally:
        terminal.close()


@pytest.mark.parametrize(
    ("line", "offered"),
    [
        ("jovik report X --language ", ["de", "en", "es", "fr"]),
        ("jovik measure model:comet@lin", ["link=USB 480 Mb/s", "link=SATA 3 Gb/s"]),
        ("jovik measure model:comet@firmware=2@ser", ["serial="]),
        ("jovik compare 'Veldhaar Comet 2TB@", ["Veldhaar Comet 2TB@rig="]),
        ("jovik compare 'Veldhaar Comet 2TB@rig=", ["Veldhaar Comet 2TB@rig=virtual bench"]),
        ("jovik compare 'Veldhaar Comet 2TB@sample=", ["Veldhaar Comet 2TB@sample=sample 1"]),
        ("jovik compare 'Veldhaar Comet 2TB@firmware=", ["Veldhaar Comet 2TB@firmware=2.1"]),
        ("jovik sheet claim X seq", ["sequential read", "sequential write"]),
        ("jovik rank --yardstick class:h", ["hdd-10000", "hdd-5400"]),
        ("jovik rank --load edit", ["edit-4k", "editor-start"]),
        ("jovik measure . 'copy in 9", ["copy in 9000 files of 40kB"]),
        ("jovik runs show ", ["last"]),
    ],
)
def test_what_the_tab_key_offers(shown: Program, line: str, offered: list[str]) -> None:
    answer = call(
        [], shown.folder, shown.env | {"_JOVIK_COMPLETE": "bash_complete", "COMP_LINE": line}, 60
    )
    found = [x.partition(",")[2].replace("\\", "") for x in answer.out.splitlines()]
    assert all(any(x.endswith(wanted) for x in found) for wanted in offered), found


def test_the_tab_key_loads_neither_the_database_nor_numpy(shown: Program) -> None:
    code = "import sys, jovik.cli as c\ntry: c.main()\nexcept SystemExit: pass\n"
    code += "print([m for m in ('numpy', 'sqlalchemy', 'pydantic', 'rich') if m in sys.modules])"
    env = shown.env | {"_JOVIK_COMPLETE": "bash_complete", "COMP_LINE": "jovik judge Veld"}
    done = subprocess.run(
        [sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True
    )
    assert done.stdout.splitlines()[-1] == "[]"


@given(st.lists(st.text(st.characters(exclude_categories=["Cs", "Cc"]), min_size=1), max_size=4))
def test_a_line_is_parted_as_a_shell_does(words: list[str]) -> None:
    import shlex

    begun = shlex.join([*words, "x"])
    found = split_half_line(begun)
    assert (found.words, found.last, found.quote) == (words, "x", "")


def test_what_bash_replaces_is_what_it_gets() -> None:
    assert fitting("model:comet", split_half_line("jovik measure model:c")) == "comet"
    assert fitting("A $1", split_half_line('jovik judge "A')) == "A \\$1"
    assert fitting("it's", split_half_line("jovik judge it")) == "it\\'s"
    assert split_half_line("a 'b c").quote == "'" and split_half_line("a 'b c").last == "b c"
