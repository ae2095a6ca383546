"""The suite of truth in short: every kind of case, with fewer seeds and an allowance for chance.

The whole of it is `make truth`.
"""

from __future__ import annotations

import pytest

from tests.truth.cases import Family, run
from tests.truth.families import FAMILIES

SURE = 3.0
"""So few cases may fall short by chance, by so many standard errors."""


@pytest.mark.parametrize("family", FAMILIES, ids=lambda f: f.name.replace(" ", "-"))
def test_what_is_said_of_made_cases_is_true(family: Family) -> None:
    rate = run(family, range(family.short))
    told = "\n".join(f"seed {s}: {o.truth} | {o.said}" for s, o in rate.wrong[:5])
    assert rate.holds(SURE), f"{rate.right} of {rate.of} right\n{told}"
