"""The latency histogram's buckets.

Log-linear, at most 1 % off, the same for engines and model drives.

Values below 128 ns have a bucket each. Above, each octave is cut into 64 equal buckets, so a bucket
is at most 1/64 of its lower edge wide and its middle at most 1/128 (0.78 %) from any value in it.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

PART_BITS = 6
"""log2 of the buckets in an octave."""
OCTAVES = 42
"""Octaves above the exact part: the last bucket ends at 2^(OCTAVES + 7) ns, more than six days."""
COUNT = (OCTAVES + 2) << PART_BITS
"""Number of buckets."""


def bucket_of(latency_ns: npt.ArrayLike) -> npt.NDArray[np.int64]:
    """Return the bucket of each latency.

    Parameters
    ----------
    latency_ns : array of int64, any shape
        Times in nanoseconds; a negative one counts as 0.
    """
    value = np.maximum(np.asarray(latency_ns, dtype=np.int64), 0)
    # frexp gives the exponent exactly for integers below 2^53, which is 104 days.
    octave = np.maximum(np.frexp(value.astype(np.float64))[1] - 1 - PART_BITS, 0).astype(np.int64)
    bucket: npt.NDArray[np.int64] = np.minimum((octave << PART_BITS) + (value >> octave), COUNT - 1)
    return bucket


def _edges() -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    index = np.arange(COUNT, dtype=np.int64)
    octave = np.maximum((index >> PART_BITS) - 1, 0)
    low = (index - (octave << PART_BITS)) << octave
    return low, low + (np.int64(1) << octave)


LOW_NS, HIGH_NS = _edges()
"""Lower (inclusive) and upper (exclusive) bucket edges, ns, shape ``(COUNT,)``."""
MIDDLE_NS: npt.NDArray[np.float64] = (LOW_NS + HIGH_NS - 1) / 2
"""The nanoseconds that each bucket represents, shape ``(COUNT,)``."""
