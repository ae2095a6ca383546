"""Count the code: lines without docstrings, comments and blanks, imports, and long functions."""

from __future__ import annotations

import ast
import io
import tokenize
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

TOP = Path(__file__).parents[1]
SOURCE = TOP / "src" / "jovik"
LONGEST = 60
LAYOUT = {
    *(tokenize.COMMENT, tokenize.NL, tokenize.NEWLINE),
    *(tokenize.INDENT, tokenize.DEDENT, tokenize.ENDMARKER),
}


def code_lines(text: str) -> int:
    """Return how many lines hold code: no docstrings, comments or blanks."""
    lines: set[int] = set()
    for token in tokenize.generate_tokens(io.StringIO(text).readline):
        if token.type not in LAYOUT:
            lines.update(range(token.start[0], token.end[0] + 1))
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            # A bare constant is a docstring, or `...` instead of a body.
            lines.difference_update(range(node.lineno, (node.end_lineno or 0) + 1))
    return len(lines)


def lines_of(node: ast.stmt) -> int:
    """Return how many lines a statement has."""
    return (node.end_lineno or node.lineno) - node.lineno + 1


def functions(tree: ast.AST) -> Iterator[ast.FunctionDef]:
    """Yield every function of a module."""
    yield from (node for node in ast.walk(tree) if isinstance(node, ast.FunctionDef))


def imports(tree: ast.AST) -> list[ast.stmt]:
    """Return every import below a node."""
    return [n for n in ast.walk(tree) if isinstance(n, ast.Import | ast.ImportFrom)]


def main() -> None:
    """Print the counts, by package and in total."""
    code: Counter[str] = Counter()
    counted: Counter[str] = Counter()
    long = []
    for path in sorted(SOURCE.rglob("*.py")):
        text = path.read_text(encoding="utf-8")
        tree = ast.parse(text)
        code[path.relative_to(SOURCE).parts[0]] += code_lines(text)
        counted["imports"] += sum(map(lines_of, imports(tree)))
        counted["in functions"] += len({n.lineno for f in functions(tree) for n in imports(f)})
        for one in functions(tree):
            first = one.body[1 if ast.get_docstring(one) and len(one.body) > 1 else 0]
            if (size := (one.end_lineno or 0) - first.lineno + 1) > LONGEST:
                long.append(f"{path.relative_to(SOURCE)} {one.name}: {size}")
    for package, lines in code.most_common():
        print(f"{lines:>7,}  {package}")
    whole = sum(code.values())
    tests = sum(code_lines(p.read_text(encoding="utf-8")) for p in TOP.glob("tests/**/*.py"))
    print(f"{whole:>7,}  code lines; tests: {tests:,} ({100 * tests / (tests + whole):.0f} %)")
    print(f"{counted['imports']:>7,}  lines of imports ({100 * counted['imports'] / whole:.1f} %)")
    print(f"{counted['in functions']:>7,}  imports inside functions")
    print(f"{len(long):>7,}  functions over {LONGEST} lines: {'; '.join(long)}")


if __name__ == "__main__":
    main()
