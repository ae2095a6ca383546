"""Which tables say an answer in a notebook: those that its command prints."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.base.notebook import tables_of
from jovik.queries.claims import Judged
from jovik.queries.comparison import Compared
from jovik.queries.ranking import Ranked
from jovik.tables.claims import claims_table
from jovik.tables.comparison import comparison_table
from jovik.tables.ranking import overall_table, steps_table
from jovik.tables.table import Table


@tables_of.register
def _(answer: Judged) -> Sequence[Table]:
    return [claims_table(answer)]


@tables_of.register
def _(answer: Ranked) -> Sequence[Table]:
    steps = steps_table(answer, None if answer.kind is None else [answer.kind])
    return [overall_table(answer), steps] if answer.kind is None else [steps]


@tables_of.register
def _(answer: Compared) -> Sequence[Table]:
    return [comparison_table(answer)]
