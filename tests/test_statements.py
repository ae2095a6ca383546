"""Every statement has a rule and a check, and the page that lists them is current."""

from __future__ import annotations

import re
from pathlib import Path

from tools.statements import page, rules, statements

from tests.truth.families import FAMILIES

TOP = Path(__file__).parent.parent


def test_every_statement_has_a_rule() -> None:
    listed = {f for rule in rules() for f in rule["functions"]}  # type: ignore[attr-defined]
    made = statements()
    missing = sorted(set(made) - listed)
    assert not missing, f"no rule in tools/statements.toml: {missing}"
    assert len(made) > 60 and sum(map(len, made.values())) > 200


def test_every_check_exists() -> None:
    families = {f.name for f in FAMILIES}
    tests = {
        name
        for path in (TOP / "tests").glob("test_*.py")
        for name in re.findall(r"^def (test_\w+)", path.read_text(encoding="utf-8"), re.M)
    }
    checks = {c for rule in rules() for c in rule["checks"]}  # type: ignore[attr-defined]
    assert checks <= families | tests, sorted(checks - families - tests)
    assert all(rule["checks"] and rule["rule"] and rule["assumes"] for rule in rules())


def test_the_page_of_statements_is_current() -> None:
    assert (TOP / "docs" / "statements.md").read_text(encoding="utf-8") == page(), "make manual"
