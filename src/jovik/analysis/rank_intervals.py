"""Places among drives, from a fit of drive and step effects and from all pairs at once.

Every step that counts has an effect, and so has every drive; a drive that lacks a step is placed as
if it had been as good there as it is elsewhere, with what drives differ by from step to step as
its uncertainty (a two-way layout without repetition; Scheffe, "The Analysis of Variance", ch. 4).
Two drives differ surely where the interval of their difference excludes nothing, at a level that
holds for all pairs together (Sidak, "Rectangular Confidence Regions", JASA 1967); the places that a
drive may hold follow from its pairs (Mogstad, Romano, Shaikh and Wilhelm, Review of Economic
Studies 2024).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from jovik.analysis.comparability import figure_of
from jovik.analysis.run_effect import RunEffect, weighted
from jovik.analysis.statistics import CONFIDENCE
from jovik.analysis.step_result import StepResult
from jovik.analysis.student_t import quantiles
from jovik.base.interval import Interval

UNKNOWN_INTERACTION = math.log(1.5)
"""By how much drives differ from step to step where too few steps are shared to tell."""

Cells = Mapping[str, Mapping[str, StepResult]]
"""Results by drive and kind of step."""


@dataclass(frozen=True)
class Rank:
    """A rank, which is a range where the noise allows no finer one."""

    first: int
    last: int

    def __str__(self) -> str:
        return f"{self.first}" if self.first == self.last else f"{self.first}-{self.last}"


@dataclass(frozen=True)
class RankIntervals:
    """Drives on one scale of logs, and which of them surely differ.

    Attributes
    ----------
    drives : tuple of str
    score : float array, shape (n,)
    variance, freedom : float arrays, shape (n,)
        NaN where a drive was measured in one pass only.
    missing : tuple of tuple of str
        The kinds of step that each drive lacks.
    """

    drives: tuple[str, ...]
    score: npt.NDArray[np.float64]
    variance: npt.NDArray[np.float64]
    freedom: npt.NDArray[np.float64]
    missing: tuple[tuple[str, ...], ...]

    @cached_property
    def place_of(self) -> dict[str, int]:
        """Return where each drive stands in the arrays."""
        return {d: i for i, d in enumerate(self.drives)}

    @property
    def level(self) -> float:
        """Return the confidence of one pair at which that of all pairs together is 95 %."""
        pairs = max(len(self.drives) * (len(self.drives) - 1) // 2, 1)
        return float(CONFIDENCE ** (1 / pairs))

    @cached_property
    def reach(self) -> npt.NDArray[np.float64]:
        """Return how far the interval of each pair's difference reaches, shape (n, n)."""
        whole = np.add.outer(self.variance, self.variance)
        with np.errstate(divide="ignore", invalid="ignore"):
            each = np.where(
                np.isfinite(self.freedom), self.variance**2 / np.maximum(self.freedom, 1e-9), 0.0
            )
            below = np.add.outer(each, each)
            freedom = np.where(below > 0, whole**2 / below, 1e9)
        reach = quantiles(freedom, 0.5 + self.level / 2) * np.sqrt(whole)
        return np.asarray(reach, dtype=np.float64)

    @cached_property
    def ahead(self) -> npt.NDArray[np.bool_]:
        """Return True if the drive of a row is surely better than that of a column."""
        ahead = np.subtract.outer(self.score, self.score) > self.reach
        np.fill_diagonal(ahead, False)
        return ahead

    @cached_property
    def ranks(self) -> list[Rank]:
        """Return the places that each drive may hold."""
        ahead = self.ahead
        count = len(self.drives)
        return [Rank(1 + int(ahead[:, i].sum()), count - int(ahead[i].sum())) for i in range(count)]

    def ratio(self, one: str, two: str) -> Interval:
        """Return how many times one drive is of another, with the interval that places go by."""
        i, j = self.place_of[one], self.place_of[two]
        if i == j:
            return Interval(1.0, 1.0, 1.0)
        between = float(self.score[i] - self.score[j])
        reach = float(self.reach[i, j])
        if math.isnan(reach):
            return Interval(math.exp(between))
        return Interval(math.exp(between), math.exp(between - reach), math.exp(between + reach))


def rank_intervals(
    cells: Cells,
    weights: Mapping[str, float],
    effect: RunEffect,
) -> RankIntervals:
    """Put drives on one scale.

    Parameters
    ----------
    cells : results by drive and kind; each drive has at least one of the kinds
    weights : mapping of kind to float
        The weight of each kind, above zero.
    """
    drives, kinds = tuple(cells), tuple(weights)
    share = np.array([weights[k] for k in kinds])
    share = share / share.sum()
    present = np.array([[k in cells[d] for k in kinds] for d in drives])

    def log_of(drive: str, kind: str) -> float:
        result = cells[drive].get(kind)
        return figure_of(result).mean if result is not None else 0.0

    logs = np.array([[log_of(d, k) for k in kinds] for d in drives])
    score, steps = _fit(logs, present, share)
    between = _interaction(logs - score[:, None] - steps[None, :], present)
    effect = effect.halved()
    variances, freedoms = [], []
    for row, drive in enumerate(drives):
        scaled = share * present[row]
        scaled = scaled / scaled.sum()
        terms = [(float(w), cells[drive][k]) for k, w in zip(kinds, scaled, strict=True) if w > 0]
        figure = weighted(terms, effect)
        # What the missing steps would have changed.
        lacking = float(((scaled - share) ** 2).sum()) * between
        whole = figure.variance + lacking
        variances.append(whole)
        freedoms.append(
            figure.freedom * (whole / figure.variance) ** 2
            if figure.variance > 0 and math.isfinite(figure.freedom)
            else figure.freedom
        )
    missing = tuple(
        tuple(k for k, is_there in zip(kinds, row, strict=True) if not is_there) for row in present
    )
    return RankIntervals(drives, score, np.array(variances), np.array(freedoms), missing)


def _fit(
    logs: npt.NDArray[np.float64], there: npt.NDArray[np.bool_], share: npt.NDArray[np.float64]
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """Effects of drives and of steps by weighted least squares, those of steps about zero."""
    drives, kinds = logs.shape
    if there.all():
        score = logs @ share
        return score, (logs - score[:, None]).mean(axis=0)
    rows, columns = np.nonzero(there)
    root = np.sqrt(share[columns])
    design = np.zeros((len(rows) + 1, drives + kinds))
    at = np.arange(len(rows))
    design[at, rows] = root
    design[at, drives + columns] = root
    # The effects of steps weigh up to nothing, so that a drive's is its weighted mean.
    design[-1, drives:] = share
    solution = np.linalg.lstsq(design, np.append(root * logs[rows, columns], 0.0), rcond=None)[0]
    return solution[:drives], solution[drives:]


def _interaction(rest: npt.NDArray[np.float64], there: npt.NDArray[np.bool_]) -> float:
    """Return the variance of drives from step to step, beyond both effects."""
    drives, kinds = there.shape
    freedom = int(there.sum()) - drives - kinds + 1
    if freedom <= 0:
        return float(UNKNOWN_INTERACTION * UNKNOWN_INTERACTION)
    return float((rest[there] ** 2).sum() / freedom)
