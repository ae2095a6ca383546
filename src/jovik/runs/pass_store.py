"""The passes of a step while it runs, in memory that does not grow with their number.

A histogram has 22 kB, and a step until steady may have ten thousand passes. The first ones stay as
they are, so that an ordinary step pays nothing. Later ones go to a file without a name, which is in
memory too as long as it is small. Their rates, which are asked for after every pass, stay at hand.
"""

from __future__ import annotations

import pickle
import tempfile
from array import array
from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import Any, overload

import numpy as np

from jovik.base import histogram
from jovik.base.trace import Latencies, Trace

AS_THEY_ARE = 50
"""Passes that stay in memory as they are, each with up to 45 kB."""
IN_MEMORY_BYTES = 2**18
"""Of the file: about 100 passes."""


class PassStore(Sequence[Trace]):
    """Passes in their order, as a sequence that can only be appended to."""

    def __init__(self, traces: Iterable[Trace] = ()) -> None:
        self._file = tempfile.SpooledTemporaryFile(IN_MEMORY_BYTES)  # noqa: SIM115 (until dropped)
        self._first: list[Trace] = []
        self._ends = array("q", [0])
        self.rates_bytes_s = array("d")
        for trace in traces:
            self.append(trace)

    def append(self, trace: Trace) -> None:
        """Add a finished pass."""
        if len(self._first) < AS_THEY_ARE:
            self._first.append(trace)
        else:
            self._file.seek(self._ends[-1])
            pickle.dump(_packed(trace), self._file, pickle.HIGHEST_PROTOCOL)
            self._ends.append(self._file.tell())
        self.rates_bytes_s.append(trace.rate_bytes_s)

    def __len__(self) -> int:
        return len(self.rates_bytes_s)

    @overload
    def __getitem__(self, index: int) -> Trace: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[Trace]: ...
    def __getitem__(self, index: int | slice) -> Trace | Sequence[Trace]:
        if isinstance(index, slice):
            return [self[n] for n in range(len(self))[index]]
        numbers = range(len(self))[index]
        if numbers < AS_THEY_ARE:
            return self._first[numbers]
        self._file.seek(self._ends[numbers - AS_THEY_ARE])
        return _unpacked(*pickle.load(self._file))


_Packed = tuple[Trace, dict[str, tuple[Any, Any, int, int, int]]]


def _packed(trace: Trace) -> _Packed:
    """Split off the histograms, of which only the used buckets are kept."""
    used = {}
    for direction, one in trace.latencies.items():
        buckets = np.flatnonzero(one.counts).astype(np.uint16)
        used[direction] = (
            *(buckets, one.counts[buckets]),
            *(one.minimum_ns, one.maximum_ns, one.sum_ns),
        )
    return replace(trace, latencies={}), used


def _unpacked(trace: Trace, used: dict[str, tuple[Any, Any, int, int, int]]) -> Trace:
    latencies = {}
    for direction, (buckets, used_counts, *edges) in used.items():
        counts = np.zeros(histogram.COUNT, np.int64)
        counts[buckets] = used_counts
        latencies[direction] = Latencies(counts, *edges)
    return replace(trace, latencies=latencies)
