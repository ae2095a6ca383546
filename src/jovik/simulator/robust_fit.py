"""Least squares in which outliers count less than by their square."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
STEP = float(np.sqrt(np.finfo(float).eps))
"""Of a derivative by differences, relative to the value."""
MOST_ROUNDS = 200
ENOUGH = 1e-8
"""A relative change of the parameters, and of the cost, that ends the search."""


def robust_fit(
    residuals: Callable[[Floats], Floats], start: Floats, scale: float
) -> tuple[Floats, Floats]:
    """Return the parameters with the least cost, and the Jacobian there.

    The cost of a residual r is ``scale^2 (sqrt(1 + (r / scale)^2) - 1)``: half its square where it
    is small, its size where it is large (Charbonnier and others, ICIP 1994). The search is by
    Levenberg and Marquardt (Marquardt, SIAM J. Appl. Math. 11, 1963), with residuals and Jacobian
    weighted as Triggs and others describe (Vision Algorithms, 2000).

    Parameters
    ----------
    residuals : callable
        Returns the residuals, shape (m,), of parameters, shape (n,).
    start : float64, shape (n,)
    scale : float
        From about this size on a residual counts less.

    Returns
    -------
    parameters : float64, shape (n,)
    jacobian : float64, shape (m, n)
        So weighted that ``jacobian.T @ jacobian`` is the Hessian of the cost, nearly.
    """

    def cost_of(off: Floats) -> float:
        return float(scale**2 * np.sum(np.sqrt(1 + (off / scale) ** 2) - 1))

    values = np.asarray(start, np.float64)
    off = residuals(values)
    cost, damping = cost_of(off), 1e-3
    weighted, jacobian = _weighted(residuals, values, off, scale)
    for _ in range(MOST_ROUNDS):
        square = jacobian.T @ jacobian
        damped = square + damping * np.diag(np.maximum(np.diag(square), 1e-12))
        step = np.linalg.solve(damped, -jacobian.T @ weighted)
        tried = residuals(values + step)
        tried_cost = cost_of(tried)
        small = bool(np.all(np.abs(step) <= ENOUGH * (1 + np.abs(values))))
        if not tried_cost < cost:
            if small or damping > 1e12:
                break
            damping *= 4
            continue
        small = small or cost - tried_cost <= ENOUGH * cost
        values, off, cost, damping = values + step, tried, tried_cost, damping / 5
        weighted, jacobian = _weighted(residuals, values, off, scale)
        if small:
            break
    return values, jacobian


def _weighted(
    residuals: Callable[[Floats], Floats], values: Floats, off: Floats, scale: float
) -> tuple[Floats, Floats]:
    """Return residuals and Jacobian whose plain least squares are those of the cost."""
    columns = []
    for n, value in enumerate(values):
        moved = values.copy()
        moved[n] += STEP * max(1.0, abs(value))
        columns.append((residuals(moved) - off) / (moved[n] - value))
    jacobian: Floats = np.stack(columns, axis=1)
    far = 1 + (off / scale) ** 2
    slope = far**-0.5
    # The first derivative, and what the second takes from it.
    bent = np.sqrt(np.maximum(slope - (far - 1) * far**-1.5, np.finfo(float).eps))
    return off * slope / bent, jacobian * bent[:, None]
