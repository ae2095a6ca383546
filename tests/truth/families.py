"""Every kind of case of the suite, in the order of the table."""

from __future__ import annotations

from tests.truth import heat, passes, series, shelves, state, steady, twins

FAMILIES = (
    *series.FAMILIES,
    *shelves.FAMILIES,
    *passes.FAMILIES,
    *heat.FAMILIES,
    *steady.FAMILIES,
    *state.FAMILIES,
    *twins.FAMILIES,
)
