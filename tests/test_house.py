"""The house rules that no linter has: how long things are, and how files are written."""

from __future__ import annotations

import ast
import builtins
import re
import sys
import tomllib
from collections.abc import Iterator
from functools import cache
from importlib import import_module, metadata
from pathlib import Path

import pytest

SOURCE = Path(__file__).parents[1] / "src" / "jovik"
MOST_LINES, MOST_FILE_LINES = 60, 500
LONG = {
    "uring_loop": "compiled: a call in it would cost",
    "replay_loop": "compiled: a call in it would cost",
    "replay_lane": "compiled: a call in it would cost",
    "blocking_loop": "compiled: a call in it would cost",
    "identify": "one look at a drive, in the order in which it is told",
    "readings": "one row for each figure of a health log",
    "demo": "the tour, one line after the other",
    "_load": "the three sorts of load, side by side",
    "upgrade": "a migration is the schema of its day",
}
"""Functions that are longer than they should be, and why."""


@cache
def modules() -> list[tuple[Path, ast.Module]]:
    paths = sorted(SOURCE.rglob("*.py"))
    return [(path, ast.parse(path.read_text(encoding="utf-8"))) for path in paths]


def test_functions_and_files_are_short_or_named_here() -> None:
    seen = set()
    for path, tree in modules():
        lines = [x for x in path.read_text(encoding="utf-8").splitlines() if x.strip()]
        assert len(lines) <= MOST_FILE_LINES, path
        for node in ast.walk(tree):
            if not isinstance(node, ast.FunctionDef) or node.end_lineno is None:
                continue
            first = node.body[1 if ast.get_docstring(node) and len(node.body) > 1 else 0]
            if node.end_lineno - first.lineno + 1 > MOST_LINES:
                assert node.name in LONG, (path, node.name)
                seen.add(node.name)
    assert seen == set(LONG), "exceptions that are none any more"


def test_every_public_docstring_begins_with_one_summary_line() -> None:
    for path, tree in modules():
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef | ast.ClassDef | ast.Module):
                text = ast.get_docstring(node)
                if text is not None and "\n" in text:
                    summary, second = text.splitlines()[:2]
                    assert len(summary) <= 100 and second.strip() == "", (path, summary)


def test_nothing_is_left_out_of_the_formatter() -> None:
    marks = ("fmt: skip", "fmt: off")
    for folder in (SOURCE, SOURCE.parents[1] / "tests"):
        for path in folder.rglob("*.py"):
            if path.name != Path(__file__).name:
                assert not any(m in path.read_text(encoding="utf-8") for m in marks), path


def test_no_decision_reads_a_sentence() -> None:
    for path, _ in modules():
        text = path.read_text(encoding="utf-8")
        for read in ('startswith("the', "in note", "facts["):
            lines = [x for x in text.splitlines() if read in x and "in notes" not in x]
            assert not lines, (path, lines)


WRITERS = {
    "base/atomic_files.py": "the one place that writes files of a user's and of Jovik's own",
    "base/by_name.py": "the same on systems without descriptors of folders, used by that one alone",
    "base/own_files.py": "opens files in Jovik's private folders, whose owner it checks",
    "cli/fault_log.py": "appends to Jovik's own log",
    "cli/streams.py": "opens /dev/null in the place of a closed standard stream",
    "engine/ceiling.py": "opens /dev/null to measure a call",
    "engine/own_folder.py": "Jovik's folder on the target of a test",
    "engine/io_file.py": "the target of a test",
    "hardware/block_trace.py": "the kernel's switches for tracing",
    "hardware/opened_files.py": "the kernel's switch that drops caches",
    "hardware/safety.py": "the target of a test, opened through the descriptor that was checked",
    "runs/pass_store.py": "spills passes to a file without a name",
    "report/pictures.py": "a private folder for drawing, removed at once",
    "shelf/migrate.py": "copies a database to a path of `atomic_files`",
    "shelf/place.py": "opens the shelf as a database",
    "engine/kernel/library.py": "links the loops while a wheel is built",
    "shelf/names.py": "reads a shelf's names from the database",
    "cli/handlers/sheet.py": "keeps a rejected text in a new private file",
}
"""Files that may open something for writing in a way of their own, and why."""
STATE_WRITERS = {
    *("base/settings.py", "cli/fault_log.py", "shelf/engines.py"),
}
"""Files that write Jovik's own state, which no user's file can be in the place of."""
WRITING_FLAGS = {"O_WRONLY", "O_RDWR", "O_CREAT", "O_APPEND", "O_TRUNC", "O_TMPFILE"}
WRITING_CALLS = {
    *("write_text", "write_bytes", "touch", "symlink_to", "hardlink_to", "mkfifo", "mknod"),
    *("copyfile", "copy2", "copytree", "FileHandler", "RotatingFileHandler"),
    *(
        "mkstemp",
        "mkdtemp",
        "NamedTemporaryFile",
        "TemporaryFile",
        "TemporaryDirectory",
        "SpooledTemporaryFile",
    ),
}
OF_OS = {"rename", "replace", "link", "symlink", "truncate"}
INTO_BUFFERS = {"savefig", "save", "to_csv", "to_parquet", "to_json", "savetxt", "savez", "ZipFile"}
"""Calls that take a path or a file: only the latter is allowed."""


def _mode(call: ast.Call, place: int) -> str | None:
    """The mode of an `open` that stands at this place; None if it is not known."""
    given = [*call.args[place : place + 1], *(k.value for k in call.keywords if k.arg == "mode")]
    if not given:
        return "r"
    return given[0].value if isinstance(given[0], ast.Constant) else None


def _opens_to_write(call: ast.Call) -> bool:
    """Whether `open(place, mode)` or `place.open(mode)` can write."""
    if isinstance(call.func, ast.Name):
        modes = [_mode(call, 1)]
    else:
        # A member of a zip is opened by its name, which is a variable or no mode.
        given = [*call.args, *(k.value for k in call.keywords)]
        modes = [x.value for x in given if isinstance(x, ast.Constant)]
    return any(
        m is None or (isinstance(m, str) and set(m) <= set("rwxabt+") and set(m) & set("wxa+"))
        for m in modes
    )


def _buffers(tree: ast.Module) -> set[str]:
    """Names that stand for a file in memory, or for what a `with` statement opened."""
    names = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Assign) and isinstance(node.value, ast.Call):
            if getattr(node.value.func, "attr", "") in ("BytesIO", "StringIO"):
                names |= {t.id for t in node.targets if isinstance(t, ast.Name)}
        elif isinstance(node, ast.withitem) and isinstance(node.optional_vars, ast.Name):
            names.add(node.optional_vars.id)
    return names


def writes_in(tree: ast.Module) -> Iterator[str]:
    """Every call that can open a file for writing, make one, or put one in another's place."""
    buffers = _buffers(tree)
    for node in ast.walk(tree):
        if not isinstance(node, ast.Call):
            continue
        name = node.func.id if isinstance(node.func, ast.Name) else getattr(node.func, "attr", "")
        module = getattr(getattr(node.func, "value", None), "id", "")
        text = f"line {node.lineno}: {ast.unparse(node)}"
        if name in ("open", "fdopen") and module != "os":
            if _opens_to_write(node):
                yield text
        elif (module, name) == ("os", "open"):
            flags = {n.attr for n in ast.walk(node) if isinstance(n, ast.Attribute)}
            if flags & WRITING_FLAGS or not flags & {"O_RDONLY", "O_PATH"}:
                yield text
        elif (
            name in WRITING_CALLS
            or (module in ("os", "shutil") and name in OF_OS | {"move"})
            or (module, name) == ("sqlite3", "connect")
        ):
            yield text
        elif name == "ZipFile" and _mode(node, 1) == "r":
            continue
        elif name in INTO_BUFFERS and isinstance(node.func, ast.Attribute):
            first = node.args[0] if node.args else None
            if not (isinstance(first, ast.Name) and first.id in buffers):
                yield text


def test_every_file_is_written_in_one_place() -> None:
    own_way, state = set(), set()
    for path, tree in modules():
        name = str(path.relative_to(SOURCE))
        found = list(writes_in(tree))
        if name in WRITERS and found:
            own_way.add(name)
        elif not name.startswith("shelf/migrations/"):
            assert not found, (name, found)
        imported = [n for n in ast.walk(tree) if isinstance(n, ast.ImportFrom)]
        taken = {a.name for n in imported if "atomic_files" in (n.module or "") for a in n.names}
        if taken & {"write_atomically", "create_atomically", "replacing"}:
            state.add(name)
    assert own_way == set(WRITERS), "exceptions that are none any more"
    assert state == STATE_WRITERS, "files of a user's go through `output`"


@pytest.mark.parametrize(
    "planted",
    [
        "open(place, 'w')",
        "open(place, mode='ab')",
        "open(place, chosen)",
        "io.open(place, 'x')",
        "place.open('w')",
        "place.open('r+b')",
        "place.write_text(text)",
        "place.write_bytes(text)",
        "os.open(place, os.O_WRONLY | os.O_CREAT)",
        "os.open(place, flags)",
        "os.replace(a, b)",
        "os.rename(a, b)",
        "shutil.copyfile(a, b)",
        "shutil.move(a, b)",
        "tempfile.NamedTemporaryFile()",
        "fig.savefig(place)",
        "image.save(place)",
        "frame.to_csv(place)",
        "zipfile.ZipFile(place, 'w')",
        "sqlite3.connect(place)",
        "logging.FileHandler(place)",
    ],
)
def test_a_planted_way_of_writing_is_found(planted: str) -> None:
    assert list(writes_in(ast.parse(planted)))


@pytest.mark.parametrize(
    "reading", ["open(place)", "place.open('rb')", "os.open(place, os.O_RDONLY)", "a.replace(b, c)"]
)
def test_reading_is_not_taken_for_writing(reading: str) -> None:
    assert not list(writes_in(ast.parse(reading)))


DOTTED = re.compile(r"\bjovik(?:\.[A-Za-z_]\w*)+")
FILE = re.compile(r"`((?:[\w.]+/)*[a-z]\w*\.(?:py|toml|md|css|js))`")
RAISES = re.compile(r"^Raises\n-+\n((?:.+\n?)+)", re.M)
TYPE = re.compile(
    r"^\w[\w, ]* : (?:(?:list|sequence|iterable|mapping from \w+) (?:of|to) )?(\w+)", re.M
)
OF_OTHERS = {"Path", "Callable", "Engine", "Console", "BaseException"}
"""Types of other packages that docstrings name."""
TOP = SOURCE.parents[1]


def _is_there(dotted: str) -> bool:
    """Whether a module, or something in it, has this name."""
    parts = dotted.split(".")
    for length in range(len(parts), 0, -1):
        place = SOURCE.parent.joinpath(*parts[:length])
        if not (place.with_suffix(".py").exists() or (place / "__init__.py").exists()):
            continue
        found: object = import_module(".".join(parts[:length]))
        for part in parts[length:]:
            if part in getattr(found, "__dataclass_fields__", {}):
                return True
            if not hasattr(found, part):
                return False
            found = getattr(found, part)
        return True
    return False


def _is_a_file(name: str) -> bool:
    return any(p.exists() for p in (TOP / name, TOP / "tests" / name, *SOURCE.rglob(name)))


def _types_named(docstring: str) -> Iterator[str]:
    """Errors and types of parameters that a docstring names."""
    for section in RAISES.findall(docstring):
        for line in section.splitlines():
            if re.fullmatch(r"[A-Z]\w+(, [A-Z]\w+)*", line):
                yield from line.split(", ")
    yield from (name for name in TYPE.findall(docstring) if name[0].isupper())


def test_what_docstrings_and_comments_name_is_there() -> None:
    """Modules, classes and files were renamed; a reader is to find the one that is named."""
    every = list(modules())
    nodes = [node for _, tree in every for node in ast.walk(tree)]
    known = OF_OTHERS | set(dir(builtins))
    known |= {n.name for n in nodes if isinstance(n, ast.ClassDef)}
    # A type may be an alias, such as a union.
    given = [t for n in nodes if isinstance(n, ast.Assign) for t in n.targets]
    known |= {t.id for t in given if isinstance(t, ast.Name)}
    missing = []
    for path, tree in every:
        text = path.read_text(encoding="utf-8")
        told = [line for line in text.splitlines() if "`" in line or "# see" in line]
        missing += [(path.name, d) for x in told for d in DOTTED.findall(x) if not _is_there(d)]
        named = [*FILE.findall(text), *re.findall(r"# see (\w+/\w+\.py)", text)]
        missing += [(path.name, f) for f in named if not _is_a_file(f)]
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef | ast.ClassDef | ast.Module):
                types = set(_types_named(ast.get_docstring(node) or ""))
                missing += [(path.name, name) for name in types - known]
    assert not missing


@pytest.mark.parametrize("page", ["ARCHITECTURE.md", "CONTRIBUTING.md", "SECURITY.md", "README.md"])
def test_what_a_page_names_is_there(page: str) -> None:
    text = (TOP / page).read_text(encoding="utf-8").replace("jovik.example", "")
    # A file that a recipe has its reader make is written with a NAME in capitals.
    files = [f for f in FILE.findall(text) if "NAME" not in f]
    assert [f for f in files if not _is_a_file(f)] == []
    assert [d for d in DOTTED.findall(text) if not _is_there(d)] == []


def test_every_package_that_is_imported_is_declared() -> None:
    """What only developers have installed would be missing in an installation."""
    project = tomllib.loads((SOURCE.parents[1] / "pyproject.toml").read_text(encoding="utf-8"))
    extras = project["project"]["optional-dependencies"]
    wanted = [*project["project"]["dependencies"], *extras["loops"], *extras["postgres"]]
    wanted += [*extras["pandas"], *extras["parquet"], *extras["excel"]]
    # The linker of a build on a machine that has none, which asks for it; parts of others.
    declared = {re.split(r"[\[>=<]", w)[0].casefold().replace("_", "-") for w in wanted}
    declared |= {"ziglang", "pydantic-core", "markupsafe"}
    dists = metadata.packages_distributions()
    for path, tree in modules():
        for node in ast.walk(tree):
            names = [a.name for a in node.names] if isinstance(node, ast.Import) else []
            names += [node.module or ""] if isinstance(node, ast.ImportFrom) else []
            for name in {n.partition(".")[0] for n in names} - sys.stdlib_module_names - {"jovik"}:
                found = {d.casefold().replace("_", "-") for d in dists.get(name, [name])}
                assert found & declared, (path, name)
