"""The engine on real files: both implementations count, stamp, verify, pace and stop alike."""

from __future__ import annotations

import os
import signal
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from jovik.base import histogram
from jovik.base.errors import EngineUnavailableError, JovikError, TargetError
from jovik.base.io_session import Progress
from jovik.base.trace import Trace
from jovik.engine.buffers import payload
from jovik.engine.io_session import LAYOUT_GENERATION, FileSession
from jovik.engine.kernel import primitives
from jovik.engine.selection import select_engine
from jovik.steps import parse_access

SPAN = " within 16MiB"


def watch(_: Progress) -> None:
    return None


@pytest.fixture(params=["io_uring", "blocking"])
def session(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[FileSession]:
    try:
        select_engine(request.param)
    except EngineUnavailableError as error:
        pytest.skip(error.message)
    with FileSession(tmp_path, request.param, seed=77) as opened:
        yield opened


def run(session: FileSession, phrase: str, seed: int = 9) -> Trace:
    work = parse_access(phrase).workload(seed)
    session.check(work)
    session.prepare(work, watch)
    return session.run(work, watch)


@pytest.mark.parametrize(
    "phrase",
    [
        "random read 4KiB for 800ms",
        "random read 4KiB depth 32 for 800ms",
        "random read 512B depth 3 for 800ms",
        "sequential read 1MiB depth 4 for 800ms",
        "random write 4KiB depth 8 workers 2 for 800ms",
        "random mixed 70% read 8KiB depth 4 for 800ms",
        "sequential write 64KiB depth 4 workers 3 for 800ms",
        "random write 4KiB durable for 800ms",
        "random read 2MiB depth 2 for 800ms",
    ],
)
def test_what_is_counted_agrees_with_itself(session: FileSession, phrase: str) -> None:
    step = parse_access(phrase + SPAN)
    trace = run(session, phrase + SPAN)
    assert trace.errors == 0 and trace.first_fault is None and not trace.stopped
    assert trace.ios > 0 and trace.read_bytes + trace.written_bytes == trace.ios * step.block_bytes
    assert sum(x.total for x in trace.latencies.values()) == trace.ios
    assert set(trace.latencies) == ({"read"} if step.reads else set()) | (
        {"write"} if step.writes else set()
    )
    assert step.time is not None and step.time <= trace.elapsed_ns < step.time + 2e9
    for one in trace.latencies.values():
        used = np.flatnonzero(one.counts)
        assert histogram.LOW_NS[used[0]] <= one.minimum_ns < histogram.HIGH_NS[used[0]]
        assert histogram.LOW_NS[used[-1]] <= one.maximum_ns < histogram.HIGH_NS[used[-1]]
        assert one.minimum_ns <= one.sum_ns / one.total <= one.maximum_ns
        # Little's law: what is in flight is the rate times the latency. Threads share a slice's
        # edge, hence the slack.
    in_flight = sum(x.sum_ns for x in trace.latencies.values()) / trace.elapsed_ns
    assert in_flight <= step.depth * step.workers * 1.05
    assert (trace.flush_ns > 0) == step.writes
    assert trace.cpu_ns > 0


def test_an_amount_is_done_exactly_and_covers_the_span_once(session: FileSession) -> None:
    trace = run(session, "sequential write 64KiB depth 4 over 4MiB verify")
    assert trace.written_bytes == 4 * 2**20
    assert (
        trace.stamps is not None
        and trace.stamps.checked == 4 * 2**20 // 4096
        and not trace.stamps.bad
    )


def test_the_share_of_reads_is_kept(session: FileSession) -> None:
    trace = run(session, "random mixed 70% read 4KiB depth 4 over 32MiB" + SPAN)
    assert trace.read_bytes / (trace.read_bytes + trace.written_bytes) == pytest.approx(
        0.7, abs=0.02
    )


def test_a_paced_pass_does_not_run_ahead(session: FileSession) -> None:
    trace = run(session, "sequential write 64KiB depth 2 at most 20MB/s for 1s" + SPAN)
    # Whether the medium keeps up is its own affair; that nothing is issued faster is ours.
    assert trace.rate_bytes_s <= 20e6 * 1.02 + 3 * 65536
    assert trace.slices[:-1, 2].max() <= 2e6 + 0.2e6 + 3 * 65536


@pytest.mark.parametrize(
    "phrase",
    [
        "random write 4KiB depth 8 over 16MiB verify",
        "random write 512B depth 2 workers 2 over 1MiB verify",
        "sequential read 64KiB depth 4 for 100ms verify",
    ],
)
def test_stamps_come_back(session: FileSession, phrase: str) -> None:
    trace = run(session, phrase + SPAN)
    assert trace.stamps is not None and trace.stamps.checked > 0 and trace.stamps.bad == 0


def test_changed_blocks_are_found_and_located(session: FileSession) -> None:
    step = "sequential read 64KiB depth 4 over 16MiB verify"
    work = parse_access(step).workload(1)
    session.prepare(work, watch)
    with open(f"/proc/self/fd/{session.storage.fd}", "r+b", buffering=0) as behind:
        os.pwrite(behind.fileno(), b"x", 3 * 4096 + 1000)  # a byte of a body
        whole = os.pread(behind.fileno(), 4096, 8 * 4096)
        os.pwrite(behind.fileno(), whole, 11 * 4096)  # a block that belongs elsewhere
        os.fsync(behind.fileno())
    trace = session.run(work, watch)
    assert trace.stamps is not None
    assert (trace.stamps.wrong, trace.stamps.stale) == (2, 0)
    assert trace.stamps.first_offsets_bytes == (3 * 4096, 11 * 4096)
    assert trace.errors == 2


def test_a_lost_write_is_called_stale(session: FileSession) -> None:
    from jovik.engine.buffers import unit_of

    run(session, "sequential read 64KiB over 1MiB verify within 16MiB")
    work = parse_access("sequential read 64KiB over 16MiB verify").workload(1)
    # As if block 5 had been written once more and the drive had kept the old one.
    wanted = np.full(16 * 2**20 // unit_of(work.block_bytes), LAYOUT_GENERATION, np.int32)
    wanted[5] += 1
    trace = session._pass(work, watch, generations=wanted)
    assert trace.stamps is not None
    assert (trace.stamps.wrong, trace.stamps.stale, trace.stamps.first_offsets_bytes) == (
        0,
        1,
        (5 * 4096,),
    )


def test_the_file_holds_no_holes_and_no_repetition(session: FileSession) -> None:
    run(session, "random read 4KiB for 50ms" + SPAN)
    status = os.fstat(session.storage.fd)
    assert status.st_size >= 16 * 2**20 and status.st_blocks * 512 >= 16 * 2**20
    with open(f"/proc/self/fd/{session.storage.fd}", "rb") as behind:
        blocks = [behind.read(4096) for _ in range(4096)]
    assert len(set(blocks)) == 4096


@pytest.mark.parametrize("percent", [0, 50, 100])
def test_the_payload_compresses_as_the_phrase_says(percent: int) -> None:
    import zlib

    pool = payload(2**20, 3, percent).tobytes()
    squeezed = (
        sum(min(len(zlib.compress(pool[i : i + 4096])), 4096) for i in range(0, 2**20, 4096))
        / 2**20
    )
    assert squeezed == pytest.approx(1 - percent / 100, abs=0.02)


def test_the_same_seed_makes_the_same_offsets_and_another_does_not(tmp_path: Path) -> None:
    def places(seed: int) -> list[int]:
        x = np.random.SeedSequence([seed, 0]).generate_state(1, np.uint64)[0] | np.uint64(1)
        found = []
        for _ in range(1000):
            x = np.uint64(primitives.next_random(x))
            found.append(primitives.random_block(x, np.uint64(1000)))
        return found

    assert places(1) == places(1) != places(2)
    assert min(places(1)) >= 0 and max(places(1)) < 1000 and len(set(places(1))) > 550


def test_the_compiled_bucket_is_the_documented_one() -> None:
    values = np.unique(
        np.concatenate(
            [
                np.arange(2000),
                2 ** np.arange(46),
                2 ** np.arange(1, 46) - 1,
                np.random.default_rng(1).integers(0, 2**46, 2000),
            ]
        )
    )
    assert [primitives.bucket(v) for v in values] == histogram.bucket_of(values).tolist()


def test_nothing_has_a_name_while_it_runs_and_nothing_stays(session: FileSession) -> None:
    assert list(session.storage.folder.iterdir()) == []
    run(session, "random read 4KiB for 50ms" + SPAN)
    assert list(session.storage.folder.iterdir()) == []


def test_an_interrupt_ends_a_pass_at_once(session: FileSession) -> None:
    # A shell that starts the tests in the background has them ignore interrupts.
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    work = parse_access("random read 4KiB depth 16 for 60s" + SPAN).workload(1)
    session.prepare(work, watch)
    threading.Timer(0.3, lambda: os.kill(os.getpid(), 2)).start()
    began = time.monotonic()
    try:
        with pytest.raises(KeyboardInterrupt):
            session.run(work, watch)
    finally:
        signal.signal(signal.SIGINT, before)
    assert time.monotonic() - began < 5


def test_what_the_target_cannot_take_is_refused_with_the_limit(session: FileSession) -> None:
    def refused(phrase: str) -> str:
        with pytest.raises(TargetError) as caught:
            session.check(parse_access(phrase).workload(0))
        return f"{caught.value.message} {caught.value.hint}"

    assert "free; this needs" in refused("sequential write 1MiB over 900TB")
    assert "GiB of memory" in refused(
        "random read 64MiB depth 1024 within 64GiB"
    ) or "threads" in refused("random read 64MiB depth 1024 within 64GiB")
    if session.engine == "blocking calls":
        assert "1024 threads" in refused("random read 4KiB depth 1024 workers 64")


@pytest.mark.parametrize("depth", [1, 2])
def test_a_full_file_system_is_an_error_of_the_drive_not_of_jovik(
    session: FileSession, depth: int
) -> None:
    work = parse_access(f"sequential write 64KiB depth {depth} over 4MiB").workload(1)
    session.prepare(work, watch)
    import resource

    before = resource.getrlimit(resource.RLIMIT_FSIZE)
    import signal

    ignored = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_FSIZE, (2**20, before[1]))
    try:
        trace = session.run(work, watch)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, before)
        signal.signal(signal.SIGXFSZ, ignored)
    assert trace.first_fault is not None and trace.first_fault.offset_bytes >= 2**20
    assert trace.first_fault.what == os.strerror(27) and trace.written_bytes <= 2**20
    confirmed = trace.first_fault.confirmed_bytes
    # The kernel confirms all up to the limit that it was given, and nothing beyond.
    assert confirmed == 2**20 if depth == 1 else confirmed is not None and confirmed <= 2**20


def test_the_blocks_that_failed_are_kept_once_each(session: FileSession) -> None:
    import resource
    import signal

    step = parse_access("random write 64KiB depth 4 over 32MiB within 4MiB")
    work = step.workload(1, stop_on_error=False)
    session.prepare(work, watch)
    before = resource.getrlimit(resource.RLIMIT_FSIZE)
    ignored = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    # The kernel refuses every write that begins beyond the limit, and no other.
    limit = 3 * 2**20
    resource.setrlimit(resource.RLIMIT_FSIZE, (limit, before[1]))
    try:
        trace = session.run(work, watch)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, before)
        signal.signal(signal.SIGXFSZ, ignored)
    assert trace.first_fault is not None
    places = trace.first_fault.places
    assert {(p.direction, p.length_bytes) for p in places} == {("write", 65536)}
    offsets = [p.offset_bytes for p in places]
    assert offsets == list(range(limit, 4 * 2**20, 65536)), "each of the 16 blocks, in order"
    assert trace.errors > len(offsets)


def test_an_engine_that_is_not_there_is_refused(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    from jovik.engine import selection as module

    def forbid(_: int) -> None:
        raise EngineUnavailableError("io_uring is refused here")

    monkeypatch.setattr(module, "Ring", forbid)
    with pytest.raises(JovikError, match="refused"):
        FileSession(tmp_path, "io_uring")
    with FileSession(tmp_path, "auto") as fallen_back:
        assert fallen_back.engine == "blocking calls"


def test_the_testers_own_ceiling_marks_what_comes_near_it(session: FileSession) -> None:
    from jovik.analysis.limits import tester_limits
    from jovik.analysis.step_result import PassFigures

    work = parse_access("random read 4KiB depth 32" + SPAN).workload(1)
    ceiling = session.ceiling_iops(work)
    assert ceiling is not None and ceiling > 0 and session.ceiling_iops(work) == ceiling

    def limits(iops: float, busy: float) -> list[str]:
        passes = [
            PassFigures(iops * 4096, iops * 4096, iops, 0, 0, 10**9, 0, round(busy * 1e9))
        ] * 3
        return [x.what for x in tester_limits(passes, ceiling, 4096, 1)]

    assert limits(0.5 * ceiling, 0.5) == []
    assert limits(0.75 * ceiling, 0.5) == ["tester"]
    assert limits(0.5 * ceiling, 0.97) == ["processor"]


def test_a_long_pass_needs_no_more_memory_than_its_slices(tmp_path: Path) -> None:
    def touched(time_ns: int) -> int:
        """Resident bytes after a pass that may last so long, but ends after its amount."""
        from dataclasses import replace

        with FileSession(tmp_path, "auto") as opened:
            work = replace(
                parse_access("random read 4KiB depth 4 over 1MiB" + SPAN).workload(1),
                time_ns=time_ns,
            )
            opened.prepare(work, watch)
            opened.run(work, watch)
            with open("/proc/self/statm") as statm:
                return int(statm.read().split()[1]) * os.sysconf("SC_PAGE_SIZE")

    minute = 60 * 10**9
    touched(minute)
    slices = 29 * 600 * 5 * 8
    assert touched(30 * minute) - touched(minute) < slices + 2**20


def test_what_a_killed_process_left_is_swept_away(tmp_path: Path) -> None:
    old, new, other = (
        tmp_path / ".jovik-test-0a",
        tmp_path / ".jovik-test-0b",
        tmp_path / "holiday.jpg",
    )
    for path in (old, new, other):
        path.write_bytes(b"x")
        os.utime(path, (1, 1))
    os.utime(new)
    FileSession(tmp_path, "blocking").close()
    assert sorted(p.name for p in tmp_path.iterdir()) == [".jovik-test-0b", "holiday.jpg"]
