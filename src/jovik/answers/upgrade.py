"""The gain from replacing one drive with others: the answer of `jovik upgrade`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar

from jovik.analysis.upgrade import Upgrade
from jovik.answers.answer import Answer, Csv, csv_of
from jovik.base.errors import UsageError
from jovik.base.plain_data import keyed
from jovik.base.quantities import parse_link
from jovik.queries.programs import program_called
from jovik.queries.upgrade import Upgraded, upgraded
from jovik.shelf.store import Shelf
from jovik.tables.evidence import passed_over_json
from jovik.tables.instrument import changes_json, changes_table
from jovik.tables.table import Table
from jovik.tables.upgrade import jobs_table, upgrade_table, upgrade_verdict


@dataclass(frozen=True)
class UpgradeAnswer(Answer):
    """The old drive compared with each new one."""

    schema: ClassVar[str] = "upgrade"

    found: tuple[Upgraded, ...]
    link_bytes_s: float | None = None
    machine_price: float | None = None
    brief: bool = False

    @property
    def upgrade(self) -> Upgrade:
        """Return the comparison with the first new drive."""
        return self.found[0].upgrade

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        upgrades = [
            _upgrade(f.upgrade, self.link_bytes_s)
            | passed_over_json(f.passed_over)
            | {"logged": changes_json(f.logged)}
            for f in self.found
        ]
        old = self.found[0].old.name
        return {"old": old, "link_bytes_s": self.link_bytes_s, "upgrades": upgrades}

    def csv(self) -> Csv:
        """Return a row for each new drive and step."""
        return csv_of(
            [{"u": f.upgrade, "s": s} for f in self.found for s in f.upgrade.steps],
            old="u.old",
            new="u.new",
            kind="s.kind",
            old_bytes_s="s.old.median",
            new_bytes_s="s.new.median",
            times="s.times.median",
            low="s.times.low",
            high="s.times.high",
            verdict="s.verdict",
        )

    def tables(self) -> Sequence[Table]:
        """Return the steps and the jobs of each new drive under its verdict."""
        shown: list[Table] = []
        for one in self.found:
            steps = [] if self.brief or not one.upgrade.steps else [upgrade_table(one)]
            jobs = jobs_table(one, brief=self.brief)
            if steps and not jobs.rows:
                steps = [replace(steps[0], notes=[*steps[0].notes, *jobs.every_note])]
            else:
                steps.append(jobs)
            shown += [
                replace(steps[0], verdict=upgrade_verdict(one, self.machine_price)),
                *steps[1:],
            ]
            logged = changes_table(one.logged, one.old.name, one.new.name)
            shown += [logged] if logged.rows else []
        return shown


def _upgrade(u: Upgrade, link_bytes_s: float | None) -> dict[str, Any]:
    steps = [
        keyed(s, "kind", "times", "verdict", old_bytes_s="old", new_bytes_s="new")
        | {"times_on_link": s.times.median if link_bytes_s is not None else None}
        for s in u.steps
    ]
    jobs = [
        keyed(j, job="job.name", rule="job.rule", old_s="old.median", new_s="new.median")
        | keyed(j, old_interval_s="old", new_interval_s="new")
        | {"computed": not j.program, "missing": j.missing or None}
        | {"old_how": j.how[0], "new_how": j.how[1]}
        for j in u.jobs
    ]
    about = keyed(u, "new", "overall", "price_for_halving", "conclusion")
    return about | {"steps": steps, "jobs": jobs}


def upgrade(
    shelf: Shelf,
    old: str,
    *new: str,
    link: str | float | None = None,
    machine_price: float | None = None,
    brief: bool = False,
    load: str | None = None,
) -> UpgradeAnswer:
    """Compare the drive in use with those that would replace it.

    Parameters
    ----------
    link : str or float, optional
        The payload rate of the new drive's link, such as ``"550MB/s"``, or bytes a second.
    machine_price : float, optional
        The price of replacing the whole machine.
    brief : bool
        Whether the tables leave the steps out.
    load : str, optional
        A recorded program to compare the drives by: measured, or predicted by their twins.

    Raises
    ------
    UsageError
        One was not measured, or both are the same, or the link cannot be read.

    Examples
    --------
    >>> stream = "sequential read 512KiB depth 4 for 2s"
    >>> done = jovik.measure(shelf, "model:slate", stream, passes=5, seed=2)
    >>> found = jovik.upgrade(shelf, "Corvane Slate 1TB", "Veldhaar Comet 2TB", link="550MB/s")
    >>> found.upgrade.steps[0].times.median < 1.1
    True
    """
    try:
        link_bytes_s = parse_link(link) if isinstance(link, str) else link
    except ValueError as error:
        raise UsageError(str(error)) from None
    program = program_called(load) if load is not None else None
    if load is not None and program is None:
        raise UsageError(
            f"no recorded program is called '{load}'", "jovik record list shows those there are"
        )
    upgrades = tuple(
        upgraded(shelf, old, name, link_bytes_s=link_bytes_s, program=program) for name in new
    )
    return UpgradeAnswer(upgrades, link_bytes_s, machine_price, brief)
