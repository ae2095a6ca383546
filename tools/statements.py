"""Write docs/statements.md: every statement that Jovik makes, its rule, and what checks it.

The templates come from the code; the rules and checks from `tools/statements.toml`.
"""

from __future__ import annotations

import ast
import re
import tomllib
from pathlib import Path

TOP = Path(__file__).parent.parent
PACKAGES = ("analysis", "tables")
SAYS = re.compile(r"(words|notes?|sentences?|verdict|lines|summary|conclusion|why|said|doubts?)$")
"""Names of functions that make statements, besides those that the rules list."""
LEAST_WORDS = 12
"""Shorter texts are units and punctuation."""


def rules() -> list[dict[str, object]]:
    """Return the rules of the TOML file."""
    text = (TOP / "tools" / "statements.toml").read_text(encoding="utf-8")
    return list(tomllib.loads(text)["rule"])


def statements() -> dict[str, list[str]]:
    """Return the templates of each function that makes statements, by its dotted name."""
    listed = {f for rule in rules() for f in rule["functions"]}  # type: ignore[attr-defined]
    found: dict[str, list[str]] = {}
    for package in PACKAGES:
        for path in sorted((TOP / "src" / "jovik" / package).glob("*.py")):
            tree = ast.parse(path.read_text(encoding="utf-8"))
            for node in ast.walk(tree):
                if not isinstance(node, ast.FunctionDef):
                    continue
                name = f"{package}.{path.stem}.{node.name}"
                templates = _templates(node)
                if templates and (SAYS.search(node.name) or name in listed):
                    found.setdefault(name, []).extend(templates)
    return found


def _templates(function: ast.FunctionDef) -> list[str]:
    """Return the texts of a function with `{...}` for what is filled in."""
    texts, inner = [], set()
    for node in ast.walk(function):
        if isinstance(node, ast.JoinedStr):
            inner |= {id(part) for part in ast.walk(node) if part is not node}
    documented = ast.get_docstring(function, clean=False)
    for node in ast.walk(function):
        if id(node) in inner:
            continue
        text = ""
        if isinstance(node, ast.JoinedStr):
            text = "".join(
                str(v.value) if isinstance(v, ast.Constant) else "{...}" for v in node.values
            )
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            text = node.value if node.value != documented else ""
        text = " ".join(text.split())
        if " " in text and len(text) > LEAST_WORDS and text not in texts:
            texts.append(text)
    return texts


def page() -> str:
    """Return the whole page."""
    made = statements()
    lines = [
        "# Statements",
        "",
        "Every sentence that Jovik can make about results, with the rule behind it, what that "
        "assumes, and the family of `make truth` or the test that checks it.",
        "`tools/statements.py` writes this page from the code; a test fails for a statement that "
        "has no rule.",
    ]
    for rule in rules():
        functions = [f for f in rule["functions"] if f in made]  # type: ignore[attr-defined]
        lines += ["", f"## {rule['rule']}", "", f"Assumes: {rule['assumes']}", ""]
        lines += ["Checked by:"] + [f"- {c}" for c in rule["checks"]]  # type: ignore[attr-defined]
        lines += ["", "| function | template |", "|---|---|"]
        lines += [f"| `{f}` | {_cell(t)} |" for f in functions for t in made[f]]
    return "\n".join(lines) + "\n"


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("<", "&lt;")


if __name__ == "__main__":
    (TOP / "docs" / "statements.md").write_text(page(), encoding="utf-8")
