"""Setting up an io_uring: the kernel's rings mapped and shown as arrays (`io_uring_setup(2)`).

Only the set-up is here, once a pass and in Python; the loop that uses the ring is `uring_loop`.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import mmap
import os

import numpy as np
import numpy.typing as npt

from jovik.base.errors import EngineUnavailableError

SETUP, REGISTER = 425, 427
REGISTER_BUFFERS, UNREGISTER_BUFFERS, REGISTER_FILES, UNREGISTER_FILES = 0, 1, 2, 3
COOP_TASKRUN, SINGLE_ISSUER, DEFER_TASKRUN = 1 << 8, 1 << 12, 1 << 13
OFF_SQ_RING, OFF_CQ_RING, OFF_SQES = 0, 0x8000000, 0x10000000
MAX_REGISTERED = 2**30
"""The most bytes that one registered buffer may have (the kernel's bound)."""

_libc = ctypes.CDLL(None, use_errno=True)


class _Params(ctypes.Structure):
    _fields_ = [
        (n, ctypes.c_uint32)
        for n in ("sq_entries", "cq_entries", "flags", "sq_cpu", "sq_idle", "features", "wq_fd")
    ] + [
        ("resv", ctypes.c_uint32 * 3),
        (
            "sq",
            ctypes.c_uint32 * 10,
        ),  # head, tail, mask, entries, flags, dropped, array, resv, user_addr (2)
        (
            "cq",
            ctypes.c_uint32 * 10,
        ),  # head, tail, mask, entries, overflow, cqes, flags, resv, user_addr (2)
    ]


def _call(number: int, *arguments: object) -> int:
    result = int(_libc.syscall(ctypes.c_long(number), *arguments))
    if result < 0:
        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code))
    return result


class Ring:
    """One ring with room for `depth` I/Os and a timer. Create it in the thread that uses it.

    Attributes
    ----------
    sqes, cqes : int64 arrays, shapes (entries, 8) and (entries, 2)
    sq_tail, cq_head, cq_tail : int
        Addresses of the 32-bit ring positions.

    Raises
    ------
    EngineUnavailableError
        The kernel has no io_uring, or forbids it here.
    """

    def __init__(self, depth: int) -> None:
        params = _Params()
        # A ring served by one thread, whose completions are run when that thread asks, costs least;
        # older kernels
        # know fewer of these flags, and work without.
        for flags in (SINGLE_ISSUER | DEFER_TASKRUN, COOP_TASKRUN, 0):
            params = _Params(flags=flags)
            try:
                self.fd = _call(SETUP, ctypes.c_uint(depth + 1), ctypes.byref(params))
                break
            except OSError as error:
                if error.errno == errno.EINVAL and flags:
                    continue
                raise EngineUnavailableError(
                    f"io_uring is refused here ({error.strerror})",
                    "it is switched off in this kernel or container; use --engine blocking",
                ) from None
        try:
            self._map(params)
        except BaseException:
            os.close(self.fd)
            raise

    def _map(self, params: _Params) -> None:
        entries, completions = params.sq_entries, params.cq_entries
        # All kernels that know these flags share one mapping for both rings; mapping each apart
        # works on all.
        sq = mmap.mmap(self.fd, params.sq[6] + entries * 4, offset=OFF_SQ_RING)
        cq = mmap.mmap(self.fd, params.cq[5] + completions * 16, offset=OFF_CQ_RING)
        slots = mmap.mmap(self.fd, entries * 64, offset=OFF_SQES)
        sq_words: npt.NDArray[np.uint32] = np.frombuffer(sq, dtype=np.uint32)
        cq_words: npt.NDArray[np.uint32] = np.frombuffer(
            cq, dtype=np.uint32, count=params.cq[5] // 4
        )
        self.sqes: npt.NDArray[np.int64] = np.frombuffer(slots, dtype=np.int64).reshape(entries, 8)
        self.cqes: npt.NDArray[np.int64] = np.frombuffer(
            cq, dtype=np.int64, offset=params.cq[5], count=completions * 2
        ).reshape(-1, 2)
        sq_words[params.sq[6] // 4 : params.sq[6] // 4 + entries] = np.arange(entries)
        self.sq_mask, self.cq_mask = (
            int(sq_words[params.sq[2] // 4]),
            int(cq_words[params.cq[2] // 4]),
        )
        self.sq_tail = sq_words.ctypes.data + params.sq[1]
        self.cq_head = cq_words.ctypes.data + params.cq[0]
        self.cq_tail = cq_words.ctypes.data + params.cq[1]
        self._kept = (sq, cq, slots, sq_words, cq_words)

    def register_file(self, fd: int) -> bool:
        """Spare the kernel the look-up of the file at each I/O. Return True if it agreed."""
        try:
            _call(
                REGISTER,
                ctypes.c_int(self.fd),
                ctypes.c_uint(REGISTER_FILES),
                ctypes.byref(ctypes.c_int(fd)),
                ctypes.c_uint(1),
            )
        except OSError:
            return False
        return True

    def register_buffers(self, *areas: npt.NDArray[np.uint8]) -> bool:
        """Spare the kernel the pinning of memory at each I/O.

        Whether it agreed (a memory-lock limit may forbid it).
        """
        if any(not 0 < a.nbytes <= MAX_REGISTERED for a in areas):
            return False
        vectors = (ctypes.c_uint64 * (2 * len(areas)))(
            *(n for a in areas for n in (a.ctypes.data, a.nbytes))
        )
        try:
            _call(
                REGISTER,
                ctypes.c_int(self.fd),
                ctypes.c_uint(REGISTER_BUFFERS),
                vectors,
                ctypes.c_uint(len(areas)),
            )
        except OSError:
            return False
        return True

    def close(self) -> None:
        """Close the ring. The kernel cancels I/Os in flight."""
        # The kernel takes a ring apart some time after it was closed; what was registered is let go
        # of now, so that the
        # file system under a test file can be unmounted as soon as the session is closed.
        for what in (UNREGISTER_FILES, UNREGISTER_BUFFERS):
            with contextlib.suppress(OSError):
                _call(REGISTER, ctypes.c_int(self.fd), ctypes.c_uint(what), None, ctypes.c_uint(0))
        os.close(self.fd)
