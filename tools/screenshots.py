"""Makes docs/screenshots from the demo's data.

Each command in a real terminal, on a screen of its own.

Needs Xvfb, xterm and Chromium (Debian: apt-get install xvfb xterm chromium fonts-dejavu-core).
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from PIL import Image, ImageGrab

TOP = Path(__file__).resolve().parents[1]
OUT = TOP / "docs" / "screenshots"
SIZE = (1280, 800)
SHOTS = {
    "overview": "jovik",
    "measure": "jovik measure model:comet --plan second-look --seed 41 2>/dev/null",
    "findings": "jovik measure model:drift 'sequential write 1MiB depth 8 for 1s' 'random read "
    "4KiB depth 1..64 for 2s' "
    "'copy in 2000 files of 2.5MB' 'empty' 'sequential write 1MiB depth 8 over "
    "200GB' 'fill to 90%' 'rest until recovered' "
    "'random write 4KiB depth 4 for 5s' 'empty' 'random write 4KiB depth 4 for 5s' "
    "--seed 4 --shelf elsewhere.db 2>/dev/null",
    "live": "jovik sheet new 'Halden Fjord 1TB' --shelf elsewhere.db; "
    "jovik measure . --shelf elsewhere.db --drive 'Halden Fjord 1TB' 'sequential "
    "read 1MiB depth 8 for 4s within 512MiB' "
    "'random read 4KiB depth 1..8 for 3s within 512MiB' 'random mixed 70% read 4KiB "
    "depth 16 for 60s within 512MiB' --passes 2",
    "judge": "jovik judge 'Veldhaar Comet 2TB'",
    "upgrade": "jovik upgrade 'Corvane Slate 1TB' 'Veldhaar Comet 2TB' --link 1900MB/s "
    "--instead-of 900",
    "fit": "jovik fit 'Veldhaar Comet 2TB'; jovik fit --classes",
    "runs": "jovik runs exclude last --why 'wrong cable'; jovik runs; "
    "jovik runs include last; jovik shelf log",
    "compare": "jovik compare 'Tarnmoor Pebble 1TB@rig=rear port' 'Tarnmoor Pebble 1TB@rig=hub' "
    "--shelf links.db",
    "rank": "jovik rank --yardstick 'Corvane Slate 1TB'",
    "steady": "jovik measure model:tundra --plan steady-iops --seed 2 --shelf elsewhere.db "
    "2>/dev/null",
    "errors": "jovik measure model:comet 'random read 4k depth 32'; jovik measure "
    "model:commet; jovik sheet show Slate; "
    "jovik measure . --drive 'Corvane Slate 1TB' 'sequential write 1MiB over 900TB'",
}
PICTURES = {
    "long-write": [
        "long-write",
        "Veldhaar Comet 2TB",
        "Ilmaris Drift 1TB",
        "Corvane Slate 1TB",
        "--axis",
        "bytes",
    ],
    "mixes": ["mixes", "Ilmaris Tundra 2TB"],
    "instrument": ["instrument", "Corvane Gannet 12TB"],
}
"""Pictures as the program draws them, beside the demo's own."""
SMALL = ("rank", "findings", "measure", "fit", "steady")
"""Shots with more lines than fit at the usual size."""
WHILE = {"live": 85.0}
"""Shots of what moves: so many seconds after the command began."""


def main() -> None:
    """Make the shots named on the command line, or all."""
    missing = [tool for tool in ("Xvfb", "xterm", "chromium") if shutil.which(tool) is None]
    if missing:
        sys.exit(
            f"screenshots need {' and '.join(missing)}: apt-get install xvfb xterm chromium "
            "fonts-dejavu-core"
        )
    OUT.mkdir(parents=True, exist_ok=True)
    wanted = sys.argv[1:] or list(SHOTS)
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch) / "demo"
        path = f"{TOP / '.venv' / 'bin'}:{os.environ['PATH']}"
        env = os.environ | {
            "PATH": path,
            "JOVIK_SHELF": str(folder / "shelf.db"),
            "LC_ALL": "C.UTF-8",
            "JOVIK_CONFIG": f"{scratch}/settings.toml",
        }
        env.pop("NO_COLOR", None)
        subprocess.run(
            ["jovik", "demo", "--out", str(folder)], env=env, check=True, stdout=subprocess.DEVNULL
        )
        shutil.copy(folder / "ranking.png", OUT / "picture-rank.png")
        page(folder / "review.html", "review", Path(scratch))
        page(folder / "review.html", "review-phone", Path(scratch), width=500, height=1100)
        site = Path(scratch) / "site"
        words = ["jovik", "report", "--all", "--each", "--out", str(site)]
        subprocess.run(words, env=env, check=True, capture_output=True)
        page(site / "index.html", "site", Path(scratch))
        for rig, link in (("rear port", "USB 10 Gb/s"), ("hub", "USB 480 Mb/s")):
            # One sample on two cables, for the shot of a comparison.
            words = ["jovik", "measure", f"model:pebble@link={link}", "--plan", "quick-compare"]
            words += ["--rig", rig, "--seed", "5", "--shelf", f"{scratch}/links.db"]
            subprocess.run(words, env=env, check=True, capture_output=True)
        if not sys.argv[1:]:
            # On a copy of the shelf, so that what the terminals show stays the demo's.
            apart = env | {"JOVIK_SHELF": str(Path(scratch) / "pictures.db")}
            shutil.copy(folder / "shelf.db", apart["JOVIK_SHELF"])
            steady = ["measure", "model:tundra", "--plan", "steady-iops", "--seed", "2"]
            subprocess.run(["jovik", *steady], env=apart, check=True, capture_output=True)
            instrument(apart, Path(scratch))
            for name, words in PICTURES.items():
                subprocess.run(
                    [
                        "jovik",
                        "picture",
                        *words,
                        "--out",
                        str(OUT / f"picture-{name}.png"),
                        "--force",
                    ],
                    env=apart,
                    check=True,
                    capture_output=True,
                )
        read, write = os.pipe()
        screen = subprocess.Popen(
            ["Xvfb", "-displayfd", str(write), "-screen", "0", f"{SIZE[0]}x{SIZE[1]}x24"],
            pass_fds=[write],
            stderr=subprocess.DEVNULL,
        )
        try:
            display = ":" + os.read(read, 16).decode().strip()
            for name in wanted:
                shoot(
                    name,
                    SHOTS[name],
                    display,
                    env | {"JOVIK_SHELF": "demo/shelf.db", "JOVIK_CONFIG": "settings.toml"},
                    Path(scratch),
                )
        finally:
            screen.terminate()


def instrument(env: dict[str, str], scratch: Path) -> None:
    """Measure a run of a disk with a level meter beside it."""
    steps = ["sequential read 1MiB depth 8 for 20s", "random read 4KiB for 20s"]
    log = str(scratch / "noise.csv")
    beside = ["--run", "last", "--quantity", "noise level", "--unit", "dB(A)", "--shift", "-20s"]
    for words in (
        ["measure", "model:gannet", *steps, "scan read in 40 zones", "--seed", "3"],
        ["runs", "meter", "last", "--quantity", "noise", "--out", log],
        ["note", "Corvane Gannet 12TB", "--log", log, *beside],
    ):
        subprocess.run(["jovik", *words], env=env, check=True, capture_output=True)


def page(path: Path, name: str, scratch: Path, width: int = SIZE[0], height: int = SIZE[1]) -> None:
    """Photograph the first screen of a page in a real browser."""
    browser = [
        "chromium",
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-background-networking",
        "--hide-scrollbars",
    ]
    browser += [
        f"--user-data-dir={scratch / 'profile'}",
        f"--window-size={width},{height}",
        f"--screenshot={scratch / 'page.png'}",
    ]
    subprocess.run([*browser, f"file://{path}"], check=True, capture_output=True)
    with Image.open(scratch / "page.png") as picture:
        picture.convert("P", palette=Image.Palette.ADAPTIVE, colors=128).save(
            OUT / f"{name}.png", optimize=True
        )
    print(OUT / f"{name}.png")


def shoot(name: str, command: str, display: str, env: dict[str, str], scratch: Path) -> None:
    """Run one command in a terminal that fills the screen, and keep what is to be seen."""
    done = scratch / "done"
    done.unlink(missing_ok=True)
    shown = "; ".join(
        f"printf '\\033[1m$ %s\\033[0m\\n' \"{part.strip()}\"; {part.strip()}; echo"
        for part in command.split(";")
    )
    geometry, size = ("180x80+0+0", "8.5") if name in SMALL else ("158x48+0+0", "10")
    look = [
        "-fa",
        "DejaVu Sans Mono",
        "-fs",
        size,
        "-b",
        "8",
        "-bw",
        "0",
        "+sb",
        "-bg",
        "#FBF8F2",
        "-fg",
        "#22262B",
    ]
    for number, colour in ((1, "#B4451F"), (2, "#2F7D4A"), (3, "#8A6100"), (6, "#1F6F8B")):
        look += ["-xrm", f"XTerm*color{number}: {colour}"]
    words = [
        "xterm",
        "-display",
        display,
        "-geometry",
        geometry,
        *look,
        "-xrm",
        "XTerm*boldColors: false",
    ]
    words += ["-e", "sh", "-c", f"{shown}; touch {done}; sleep 300"]
    terminal = subprocess.Popen(words, env=env, cwd=scratch, stderr=subprocess.DEVNULL)
    if name in WHILE:
        time.sleep(WHILE[name])
    else:
        for _ in range(3000):
            if done.exists():
                break
            time.sleep(0.1)
        else:
            sys.exit(f"{name}: '{command}' has not ended after 5 min")
        time.sleep(0.7)
    picture = ImageGrab.grab(xdisplay=display)
    # Few colours: the palette makes the file a fifth.
    picture.convert("P", palette=Image.Palette.ADAPTIVE, colors=128).save(
        OUT / f"{name}.png", optimize=True
    )
    terminal.terminate()
    terminal.wait()
    print(OUT / f"{name}.png")


if __name__ == "__main__":
    main()
