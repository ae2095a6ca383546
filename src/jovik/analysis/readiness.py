"""Obstacles to testing a drive, and the tests that are possible nevertheless."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.base.quantities import show_rate, show_size
from jovik.sheets.sheet import Claim
from jovik.steps.io_step import DEFAULT_SPAN_BYTES

LOW_SPACE_BYTES = DEFAULT_SPAN_BYTES
"""The test file of a plan such as first-look."""
BUSY_BYTES_S = 1e6
"""I/O of others from which on a drive is in use."""


@dataclass(frozen=True)
class Surroundings:
    """Facts about a drive in its current place."""

    against_writing: tuple[str, ...]
    unknown_content: str
    blank: str
    is_system: bool
    mounted: bool
    read_only: bool
    free_bytes: int | None
    busy_bytes_s: float
    link: str | None
    link_rate_bytes_s: float | None
    link_reduced: bool


@dataclass(frozen=True)
class Obstacle:
    """One thing to know before testing: `what` in a word or two, `why` in a sentence."""

    what: str
    why: str


def obstacles(around: Surroundings, claims: Sequence[Claim] = ()) -> list[Obstacle]:
    """Return all obstacles, and finally the possible tests."""
    obstacles = []
    if around.is_system:
        obstacles.append(
            Obstacle(
                "system drive", "this system runs from it, so its own work disturbs every figure"
            )
        )
    if around.read_only:
        obstacles.append(Obstacle("read-only", "its data can be read, but not written"))
    if around.busy_bytes_s > BUSY_BYTES_S:
        obstacles.append(
            Obstacle("in use", f"others move {show_rate(around.busy_bytes_s)} on it right now")
        )
    if around.free_bytes is not None and around.free_bytes < LOW_SPACE_BYTES:
        obstacles.append(
            Obstacle(
                "low space",
                f"{show_size(around.free_bytes)} free beyond the reserve; first-look needs "
                f"{show_size(LOW_SPACE_BYTES)}",
            )
        )
    if around.link_reduced:
        obstacles.append(
            Obstacle(
                "slow link",
                f"it runs as {around.link}: suspect the port, the cable or a slot that is wired "
                "narrower",
            )
        )
    obstacles += claims_beyond(around.link_rate_bytes_s, claims)
    obstacles.append(Obstacle("can do", _possible(around)))
    return obstacles


def _possible(around: Surroundings) -> str:
    """Return the tests that are possible nevertheless."""
    if around.mounted and not around.read_only:
        return "measure a folder on it, or read the raw device"
    read = "read it as a raw device"
    if around.against_writing:
        return f"{read}; writing is refused: {'; '.join(around.against_writing)}"
    if around.unknown_content:
        return (
            f"{read}; writing is refused: {around.unknown_content}, unless --content-worthless "
            "declares it worthless"
        )
    if around.busy_bytes_s > 0:
        return f"{read}; writing is refused while others use it"
    return f"{read}; write it with --destroy and its serial: it is {around.blank}"


def claims_beyond(rate: float | None, claims: Sequence[Claim]) -> list[Obstacle]:
    """Return claims of a stream that a link of this payload rate (bytes a second) cannot carry."""
    if rate is None:
        return []
    beyond = [c for c in claims if c.unit == "bytes/s" and c.figure > rate]
    return [
        Obstacle(
            "claim beyond the link",
            f"this port carries at most {show_rate(rate)}; the claim of {c.shown()} "
            f"({c.label}) cannot be tested here",
        )
        for c in beyond
    ]
