"""Made long writes: cliffs, pauses, slopes, saw-teeth and none of these, with known parameters."""

from __future__ import annotations

import math

import numpy as np

from jovik.analysis.dropouts import drop_outs
from jovik.analysis.long_write import long_write
from jovik.analysis.long_write_notes import long_write_notes
from jovik.base.findings import LongWrite, Shape
from tests.truth.cases import Family, Outcome

BLOCK = 2**18
TOP = 2e9


def noise(rng: np.random.Generator, count: int, wander: float, fresh: float) -> np.ndarray:
    """A factor on the rate: a part that remembers for two seconds, and one new in each slice."""
    keep = math.exp(-0.05)
    at = rng.normal()
    walk = np.empty(count)
    for i, step in enumerate(rng.normal(size=count) * math.sqrt(1 - keep * keep)):
        at = keep * at + step
        walk[i] = at
    return np.exp(wander * walk + fresh * rng.normal(size=count))


def with_pauses(
    rng: np.random.Generator, rates: np.ndarray, *, every_s: float, long_s: float
) -> tuple[np.ndarray, int]:
    """Rates with a pause every so often, and how many there are."""
    long_s = min(long_s, 0.1 * every_s)
    out, at, count = rates.copy(), rng.uniform(0.2, 1) * every_s, 0
    while at + long_s < len(rates) / 10:
        out[round(at * 10) : round((at + long_s) * 10)] *= 0.01
        count += 1
        at += every_s * rng.uniform(0.9, 1.1)
    return out, count


def seen(rates: np.ndarray) -> LongWrite:
    """What the analysis finds in these rates in bytes a second, one for each slice."""
    slices = np.zeros((len(rates) + 1, 5), np.int64)
    slices[:-1, 2] = rates / 10
    slices[:, 3] = np.maximum(slices[:, 2] // BLOCK, 1)
    found = long_write(slices, len(rates) * 10**8)
    assert found is not None
    return found


def words(found: LongWrite) -> str:
    """All that is said of it."""
    return "; ".join(long_write_notes(found))


def _noise_for(rng: np.random.Generator, count: int) -> np.ndarray:
    return noise(rng, count, rng.uniform(0.002, 0.02), rng.uniform(0.005, 0.06))


def _flat(seed: int, *, pauses: bool) -> Outcome:
    rng = np.random.default_rng([seed, 1])
    count = int(rng.integers(200, 4000))
    rates = TOP * _noise_for(rng, count)
    if pauses:
        rates, _ = with_pauses(rng, rates, every_s=rng.uniform(5, 45), long_s=rng.uniform(0.2, 1.5))
    found = seen(rates)
    right = not found.falls and not found.slope and all(p.shape is Shape.LEVEL for p in found.parts)
    return Outcome("one level" + (" with pauses" if pauses else ""), words(found), right)


def _cliff(seed: int, *, pauses: bool) -> Outcome:
    rng = np.random.default_rng([seed, 2])
    count = int(rng.integers(300, 4000))
    at = int(count * rng.uniform(0.08, 0.85))
    share = rng.uniform(0.1, 0.72)
    rates = TOP * _noise_for(rng, count)
    rates[at:] *= share
    if pauses:
        rates, _ = with_pauses(rng, rates, every_s=rng.uniform(8, 45), long_s=rng.uniform(0.2, 1.5))
    truth = rates[:at].sum() / 10
    left = rates[at:].mean() / rates[:at].mean()
    found = seen(rates)
    cliff = found.cliff
    right = (
        cliff is not None
        and len(found.falls) == 1
        and abs(cliff.at_bytes / truth - 1) <= 0.01
        and abs(cliff.after_bytes_s / cliff.before_bytes_s / left - 1) < (0.1 if pauses else 0.05)
        and (cliff.low_bytes <= truth * 1.003 and cliff.high_bytes >= truth * 0.997)
    )
    return Outcome(
        f"a cliff after {truth / 1e9:.2f} GB and {at / 10:.1f} s to {share:.2f}",
        words(found),
        right,
    )


def _late(seed: int) -> Outcome:
    """A pause at the very end is no cliff."""
    rng = np.random.default_rng([seed, 3])
    count = int(rng.integers(600, 3000))
    rates = TOP * _noise_for(rng, count)
    rates[-int(rng.integers(2, 15)) :] *= 0.02
    found = seen(rates)
    return Outcome("one level, a pause at its end", words(found), found.cliff is None)


def _slope(seed: int, where: str) -> Outcome:
    rng = np.random.default_rng([seed, 4])
    count = int(rng.integers(600, 4000))
    start, end = {
        "all": (0.0, 1.0),
        "middle": (rng.uniform(0.2, 0.4), rng.uniform(0.6, 0.8)),
        "end": (rng.uniform(0.3, 0.6), 1.0),
    }[where]
    share = rng.uniform(0.35, 0.7)
    t = np.clip((np.arange(count) / count - start) / (end - start), 0, 1)
    rates = TOP * (1 - (1 - share) * t) * _noise_for(rng, count)
    found = seen(rates)
    slope = found.slope
    right = (
        slope is not None
        and found.cliff is None
        and abs((slope.to_bytes_s or 0) / TOP / share - 1) < 0.12
        and abs((slope.from_bytes_s or 0) / TOP - 1) < 0.12
        and abs(slope.start_s / (count / 10) - start) < 0.12
        and abs(slope.end_s / (count / 10) - end) < 0.12
    )
    return Outcome(
        f"a decline to {share:.2f} between {start:.2f} and {end:.2f}", words(found), right
    )


def _cliff_then_slope(seed: int) -> Outcome:
    rng = np.random.default_rng([seed, 5])
    count = int(rng.integers(1000, 4000))
    at = int(count * rng.uniform(0.15, 0.4))
    share, last = rng.uniform(0.3, 0.6), rng.uniform(0.4, 0.65)
    t = np.clip((np.arange(count) - at) / (count - at), 0, 1)
    rates = TOP * np.where(np.arange(count) < at, 1.0, share * (1 - (1 - last) * t))
    found = seen(rates * _noise_for(rng, count))
    cliff = found.cliff
    right = cliff is not None and abs(cliff.at_s - at / 10) < 1 and found.slope is not None
    return Outcome(
        f"a cliff after {at / 10:.0f} s to {share:.2f}, then a decline", words(found), right
    )


def _saw(seed: int, *, after_cache: bool) -> Outcome:
    rng = np.random.default_rng([seed, 6])
    high_s, low_s = rng.uniform(1.5, 20, 2)
    low = rng.uniform(0.3, 0.8)
    period = high_s + low_s
    count = int(10 * period * rng.uniform(5.2, 12))
    t = (np.arange(count) / 10 + rng.uniform(0, period)) % period
    rates = TOP * np.where(t < high_s, 1.0, low)
    head = int(rng.uniform(20, 60) * 10) if after_cache else 0
    rates = np.concatenate([np.full(head, 2 * TOP), rates]) * _noise_for(rng, count + head)
    mean = TOP * (high_s + low * low_s) / period
    found = seen(rates)
    part = next((p for p in found.parts if p.shape is Shape.ALTERNATING), None)
    right = (
        part is not None
        and abs((part.period_s or 0) / period - 1) < 0.05
        and abs(part.rate_bytes_s.median / mean - 1) < 0.03
        and part.from_bytes_s is not None
        and part.to_bytes_s is not None
        and abs(part.from_bytes_s / TOP - 1) < 0.08
        and abs(part.to_bytes_s / (TOP * low) - 1) < 0.08
    )
    said = words(found)
    return Outcome(
        f"between {TOP / 1e6:.0f} and {low * TOP / 1e6:.0f} MB/s every {period:.1f} s, mean "
        f"{mean / 1e6:.0f}",
        said,
        right,
    )


def _pauses(seed: int) -> Outcome:
    rng = np.random.default_rng([seed, 7])
    count = int(rng.integers(600, 4000))
    rates = TOP * _noise_for(rng, count)
    rates, many = with_pauses(rng, rates, every_s=rng.uniform(9, 45), long_s=rng.uniform(0.3, 2))
    slices = np.zeros((count + 1, 5), np.int64)
    slices[:-1, 2] = rates / 10
    slices[:, 3] = np.maximum(slices[:, 2] // BLOCK, 1)
    found = drop_outs(slices)
    return Outcome(f"{many} pauses", f"{found.count} pauses", found.count == many)


def _promise(seed: int) -> Outcome:
    """A fall of the size that is said to be seen is seen."""
    rng = np.random.default_rng([seed, 8])
    count = int(rng.integers(400, 3000))
    make = lambda: TOP * noise(rng, count, wander, fresh)  # noqa: E731
    wander, fresh = rng.uniform(0.002, 0.03), rng.uniform(0.01, 0.2)
    promised = seen(make()).would_see
    rates = make()
    at = int(count * rng.uniform(0.1, 0.85))
    long = max(round(0.05 * count), 30)
    rates[at : at + long] *= 1 - math.ceil(100 * promised) / 100
    found = seen(rates)
    right = found.cliff is not None and abs(found.cliff.at_s - at / 10) < max(2, 0.02 * count / 10)
    return Outcome(f"a fall by {promised:.0%} at {at / 10:.0f} s", words(found), right)


def _head(seed: int) -> Outcome:
    """A write cache at the very beginning is seen where it is said that it would be."""
    rng = np.random.default_rng([seed, 9])
    count = int(rng.integers(100, 600))
    long = int(rng.integers(1, 12))
    ratio = rng.uniform(1.5, 6)
    level = 1e8
    rates = level * noise(rng, count, 0.005, rng.uniform(0.005, 0.04))
    rates[:long] *= ratio
    found = seen(rates)
    cache = rates[:long].sum() / 10
    promised = found.would_see_head_s or math.inf
    told = found.cliff is not None and abs(found.cliff.at_s - long / 10) <= 0.15
    exact = abs(found.parts[-1].rate_bytes_s.median / level - 1) < 0.03
    right = told and exact if long / 10 >= promised else True
    return Outcome(f"a cache of {cache / 1e6:.0f} MB, {long / 10} s", words(found), right)


def _held(seed: int) -> Outcome:
    """The interval of the steady rate holds the true mean."""
    rng = np.random.default_rng([seed, 10])
    count = int(rng.integers(600, 2400))
    at = int(count * rng.uniform(0.2, 0.45))
    wander, fresh = rng.uniform(0.005, 0.03), rng.uniform(0.01, 0.05)
    rates = TOP * noise(rng, count, wander, fresh)
    rates[at:] *= 0.4
    truth = 0.4 * TOP * math.exp((wander**2 + fresh**2) / 2)
    found = seen(rates)
    rate = found.steady_bytes
    if rate is None or rate.low is None or rate.high is None:
        return Outcome(f"{truth / 1e6:.1f} MB/s", "no steady rate", False)
    return Outcome(
        f"{truth / 1e6:.1f} MB/s",
        f"{rate.low / 1e6:.1f} to {rate.high / 1e6:.1f}",
        rate.low <= truth <= rate.high,
    )


def _slow_start(seed: int) -> Outcome:
    rng = np.random.default_rng([seed, 11])
    count = int(rng.integers(400, 2000))
    rates = TOP * _noise_for(rng, count)
    rates[: int(rng.integers(35, 100))] *= rng.uniform(0.3, 0.8)
    said = words(seen(rates))
    return Outcome("a slow start", said, "starts slowly" in said and "recovers" not in said)


def _negative(seed: int) -> Outcome:
    """No rate is below zero, whatever the series."""
    rng = np.random.default_rng([seed, 12])
    count = int(rng.integers(60, 1500))
    rates = TOP * np.exp(rng.normal(0, rng.uniform(0.5, 2.5), count)) * (rng.random(count) > 0.3)
    rates[0] = TOP
    found = seen(rates)
    lows = [p.rate_bytes_s.low or 0.0 for p in found.parts]
    lows += [v for f in found.falls for v in (f.before_bytes_s, f.after_bytes_s)]
    return Outcome("nothing below zero", words(found), min(lows) >= 0)


def _wave(seed: int) -> Outcome:
    """A slow wave, or a stop every few seconds, is one alternation and nothing else."""
    rng = np.random.default_rng([seed, 12])
    count = int(rng.integers(2400, 6000))
    t = np.arange(count) / 10
    rates = TOP * _noise_for(rng, count)
    if seed % 2:
        period = rng.uniform(20, 60)
        rates *= 1 + rng.uniform(0.25, 0.5) * np.sin(2 * np.pi * t / period + rng.uniform(0, 6))
    else:
        period = rng.uniform(2.5, 8)
        rates[(t + rng.uniform(0, period)) % period < rng.uniform(0.25, 0.6) * period] *= 0.02
    found = seen(rates)
    right = (
        not found.falls
        and len(found.parts) == 1
        and found.parts[0].shape is Shape.ALTERNATING
        and abs((found.parts[0].period_s or 0) / period - 1) < 0.1
        and abs(found.parts[0].rate_bytes_s.median / rates.mean() - 1) < 0.05
    )
    return Outcome(f"alternates every {period:.1f} s", words(found), right)


def _zones(seed: int) -> Outcome:
    """The zones of a disk are a decline, and their last step is no cliff."""
    rng = np.random.default_rng([seed, 13])
    zones = int(rng.integers(12, 40))
    each = int(rng.integers(80, 300))
    rates = 2.5e8 * np.sqrt(np.linspace(1, rng.uniform(0.22, 0.35), zones)).repeat(each)
    rates = rates * noise(rng, len(rates), 0.003, rng.uniform(0.005, 0.03))
    found = seen(rates)
    return Outcome(f"{zones} zones", words(found), found.cliff is None)


FAMILIES = (
    Family("one level has no cliff", lambda s: _flat(s, pauses=False), 0.99, 600, 10),
    Family("one level with pauses has no cliff", lambda s: _flat(s, pauses=True), 0.99, 600, 10),
    Family("a pause at the end is no cliff", _late, 0.99, 300, 8),
    Family("a cliff is found in its place", lambda s: _cliff(s, pauses=False), 0.99, 600, 10),
    Family("a cliff among pauses", lambda s: _cliff(s, pauses=True), 0.99, 600, 10),
    Family("pauses are counted", _pauses, 0.95, 300, 8),
    Family("a decline over all of it", lambda s: _slope(s, "all"), 0.95, 300, 5),
    Family("a decline in the middle", lambda s: _slope(s, "middle"), 0.95, 300, 5),
    Family("a decline at the end", lambda s: _slope(s, "end"), 0.95, 300, 5),
    Family("a cliff, then a decline", _cliff_then_slope, 0.95, 300, 5),
    Family("a saw-tooth", lambda s: _saw(s, after_cache=False), 0.95, 300, 8),
    Family("a saw-tooth after the cache", lambda s: _saw(s, after_cache=True), 0.95, 300, 8),
    Family("a fall that would have been seen is", _promise, 0.97, 600, 10),
    Family("a small cache that would have been seen is", _head, 0.97, 600, 10),
    Family("the interval of a steady rate", _held, 0.93, 1000, 20, most=0.985),
    Family("a slow start is no recovery", _slow_start, 0.97, 200, 6),
    Family("no rate below zero", _negative, 1.0, 300, 8),
    Family("a slow wave or regular stops alternate", _wave, 0.95, 1000, 60),
    Family("the zones of a disk have no cliff", _zones, 0.97, 1000, 60),
)
