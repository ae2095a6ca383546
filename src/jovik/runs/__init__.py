"""Runs from an order to the shelf: what is to be run and on what, what it will cost, and carrying it out."""

from jovik.runs.execute import Begun, Outcome, carry_out, getting_ready
from jovik.runs.open_session import open_session, sheet_for
from jovik.runs.prepare import Ready, fit_budget, prepared
from jovik.runs.request import Order, again, going_on, order_of, settling

__all__ = [
    "Begun",
    "Order",
    "Outcome",
    "Ready",
    "again",
    "carry_out",
    "fit_budget",
    "getting_ready",
    "going_on",
    "open_session",
    "order_of",
    "prepared",
    "settling",
    "sheet_for",
]
