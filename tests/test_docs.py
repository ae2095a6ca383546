"""The documentation, followed word by word.

Every command in it is run, and what is quoted below one is held against what it says.
"""

from __future__ import annotations

import os
import re
import shlex
import shutil
import textwrap
from collections.abc import Iterator
from importlib import resources
from pathlib import Path

import pytest

from tests.conftest import Program
from tests.programs import find, run, sparse_file, succeeds

TOP = Path(__file__).resolve().parents[1]
PAGES = [
    "README.md",
    *sorted(f"docs/{p.name}" for p in (TOP / "docs").glob("*.md") if p.name != "tutorial.md"),
]
COMMAND = re.compile(r"^    (?:\$ )?(?:sudo )?(?:[A-Z_]+=\S+ )*(?:[~\w./-]*/)?(jovik .*)$")
"""A line that calls the program, wherever it is installed and whatever is set for it."""
SHELL = re.compile(r"^```sh\n(.*?)^```", re.S | re.M)
FILE = re.compile(r"`([\w-]+\.(?:toml|csv))`[^`]*?```(?:toml|csv)\n(.*?)```", re.S)

RECORDINGS = TOP / "src" / "jovik" / "steps" / "recordings"

ELSEWHERE = {
    "/mnt/new": "model:comet",
    "/mnt/rear": "model:comet",
    "/mnt/usb": "model:pebble",
    "/mnt/hub": "model:hub.toml",
    # A whole full review, and gigabytes of a real device, are for other tests.
    "full-review --budget": "first-look --budget",
    '--drive "Fjord 1TB" --plan full-review': '--drive "Fjord 1TB" --plan first-look',
    "5s within 100GB": "200ms within 8MB",
    "--on /home -- editor": "--on . -- true",
    "--on /home --repeat 10 --cold -- editor --quit": "--on . --repeat 2 --cold -- true",
}
"""What stands in pages for what is not here."""


def page_of(name: str) -> str:
    """A page, with the lines of a shell set as code by indentation."""
    text = (TOP / name).read_text(encoding="utf-8")
    return SHELL.sub(lambda found: textwrap.indent(found[1], "    "), text)


def commands_of(text: str) -> list[str]:
    return [found[1] for line in text.splitlines() if (found := COMMAND.match(line))]


def words_of(command: str, device: Path | None) -> list[str]:
    for old, new in ELSEWHERE.items():
        command = command.replace(old, new)
    words = shlex.split(command, comments=True)[1:]
    if words[0] in ("scout", "health"):
        words = [w if w not in ELSEWHERE.values() else "." for w in words]
    image = os.path.realpath(f"{device}.image")
    stands = {"/dev/sdX": str(device), "HF-00417": image, "SERIAL": image}
    return [stands.get(w, w) for w in words]


MODELS = {"Corvane Slate 1TB": "slate", "Ilmaris Drift 1TB": "drift", "Veldhaar Comet 2TB": "comet"}


def prepare(jovik: Program, text: str) -> None:
    """What a page takes for granted.

    The drives that it names are on the shelf, and the files that it speaks of in the folder.
    """
    steps = ["sequential read 1MiB depth 8 for 1s", "random read 4KiB for 1s"]
    steps += ["sequential write 1MiB depth 8 over 30% of free"] if "long-write" in text else []
    # A twin takes more steps.
    words = ["--plan", "second-look", "--yes"] if "twin" in text else [*steps, "--passes", "3"]
    for seed, (name, model) in enumerate(MODELS.items()):
        if f'"{name}"' in text:
            jovik("measure", f"model:{model}", *words, "--seed", str(seed))
    if "twins.zip" in text:
        jovik("report", "--all", "--each", "--out", "site")
        shutil.copy(jovik.folder / "site" / "twins.zip", jovik.folder)
        shutil.copy(
            jovik.folder / "site" / "corvane-slate-1tb-twin.toml", jovik.folder / "twin.toml"
        )
        jovik("shelf", "export", "--out", "shelf.zip")
    for name in ("Fjord 1TB", "Pebble"):
        if f'"{name}"' in text and f'sheet new "{name}"' not in text:
            jovik("sheet", "new", name)
    jovik("sheet", "new", "Another")
    comet = (resources.files("jovik.simulator") / "catalogue" / "comet.toml").read_text(
        encoding="utf-8"
    )
    (jovik.folder / "hub.toml").write_text(
        comet.replace('link_rate = "7877MB/s"', 'link_rate = "450MB/s"'), encoding="utf-8"
    )
    (jovik.folder / "mine.md").write_text("My own words.\n", encoding="utf-8")
    (jovik.folder / "mine.toml").write_text(
        (resources.files("jovik.sheets.loads") / "telescope.toml").read_text(encoding="utf-8"),
        encoding="utf-8",
    )
    for name, content in FILE.findall(text):
        (jovik.folder / name).write_text(content, encoding="utf-8")


@pytest.fixture
def device(tmp_path: Path) -> Iterator[Path | None]:
    """A blank raw device of 3 GB where we may make one."""
    image = sparse_file(tmp_path / "image", 3 * 10**9)
    node = tmp_path / "loop"
    if os.geteuid() != 0 or find("losetup") is None or not succeeds("losetup", "--find", image):
        yield None
        return
    made = run("losetup", "--associated", image, "--noheadings", "--output", "NAME")
    node.symlink_to(made)
    Path(f"{node}.image").symlink_to(image)
    yield node
    run("losetup", "--detach", made)


@pytest.mark.parametrize("page", [p for p in PAGES if commands_of(page_of(p))])
def test_every_command_of_a_page_does_what_is_quoted_below_it(
    page: str, jovik: Program, device: Path | None
) -> None:
    text = page_of(page)
    prepare(jovik, text)
    said, lines = "", text.splitlines()
    for at, line in enumerate(lines):
        found = COMMAND.match(line)
        if found:
            words = words_of(found[1], device)
            if any("/dev/sdX" in w or w == "None" for w in words):
                continue
            answer = jovik(*words, status=None)
            if words[0] == "record" and "--out" in words:
                # Nothing was asked of a drive, or it could not be seen: a recording that ships.
                assert answer.status in (0, 3), answer.err
                out = jovik.folder / words[words.index("--out") + 1]
                shutil.copy(RECORDINGS / "editor-start.jrec", out)
                continue
            wrong = line.startswith("    $ ")
            # 1 is an answer too: a claim fell short, a load is not carried.
            assert answer.status in ((2,) if wrong else (0, 1)), (line, answer.out, answer.err)
            said = f"{said}\n{answer.out}\n{answer.err}"
            below = [x[4:] for x in lines[at + 1 : at + 8] if x.startswith("    ")] if wrong else []
            assert all(x.strip() in answer.err for x in below), (below, answer.err)
        elif line.startswith("> "):
            assert line[2:] in said, (line, said)
        elif line.startswith("## "):
            said = ""


def test_every_command_of_the_tutorial_does_what_is_quoted_below_it(jovik: Program) -> None:
    said, count = "", 0
    for line in page_of("docs/tutorial.md").splitlines():
        if line.startswith("    jovik "):
            answer = jovik(*shlex.split(line)[1:], status=None)
            assert answer.status in (0, 1), (line, answer.err)
            said, count = f"{said}\n{answer.out}\n{answer.err}", count + 1
        elif line.startswith("> "):
            assert line[2:] in " ".join(said.split()) or line[2:] in said, line
        elif line.startswith("##"):
            said = ""
    assert count == 21
    assert {p.name for p in jovik.folder.iterdir()} == {
        "cliff.png",
        "review.html",
        "review-copy.db",
        "fjord.zip",
    }


def test_the_python_in_the_pages_runs(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("JOVIK_CONFIG", "")
    blocks = [b for p in PAGES for b in re.findall(r"```python\n(.*?)```", page_of(p), flags=re.S)]
    assert blocks
    for block in blocks:
        exec(compile(block, "a page", "exec"), {})
    assert (tmp_path / "claims.png").exists()


def test_the_readme_is_short_and_names_every_command() -> None:
    from jovik.cli import COMMANDS

    text = page_of("README.md")
    assert len(text.split()) < 2000
    assert [c for c in COMMANDS if f"jovik {c}" not in text and c != "demo"] == []
