"""Runs from an order to the shelf: what is to be run and on what, what it will cost, and carrying it out."""

from jovik.runs.carrying import Begun, Outcome, carry_out, getting_ready
from jovik.runs.cost import Ready, fit_budget, prepared
from jovik.runs.order import Order, again, going_on, order_of, settling
from jovik.runs.place import open_session, sheet_for

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
