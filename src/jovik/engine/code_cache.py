"""The compiled loops as plain functions.

Machine code kept from one process to the next, without Numba in between.

Numba compiles the loops in some seconds. Importing it and having it find its own cache again takes
a second, which each run would pay; so the object code that LLVM makes of them is kept here, and
loaded by LLVM's linker alone.
"""

from __future__ import annotations

import contextlib
import ctypes
import hashlib
from collections.abc import Callable
from functools import cache
from importlib.metadata import version
from pathlib import Path
from typing import Any

import llvmlite
import llvmlite.binding as llvm
import numpy.typing as npt

from jovik.base.atomic_files import write_atomically
from jovik.base.own_files import make_own_folder, read_own

KERNEL = Path(__file__).parent / "kernel"
SYMBOL = "jovik_loop"
SUM_BYTES = 16
_engines: list[Any] = []  # the memory of loaded code belongs to these


@cache
def load(name: str) -> Callable[..., None]:
    """Return a loop as a function of arrays, which runs without the interpreter lock.

    Parameters
    ----------
    name : str
        ``"uring_loop"`` or ``"blocking_loop"``. Its module under `kernel` says what the arguments
        are.
    """
    _start_llvm()
    file = _place(name)
    code = _kept(file)
    if code is None:
        code = _compile(name)
        _keep(file, code)
    engine = llvm.create_mcjit_compiler(llvm.parse_assembly(""), _machine())
    engine.add_object_file(llvm.ObjectFileRef.from_data(code))
    engine.finalize_object()
    _engines.append(engine)
    address = engine.get_function_address(SYMBOL)
    if not address:
        raise OSError(f"the kept code of {name} is damaged: remove {file}")

    def call(*arrays: npt.NDArray[Any]) -> None:
        # Numba's own convention: where the result and an exception go, then the arguments.
        result, fault = ctypes.c_int64(), ctypes.c_void_p()
        function = ctypes.CFUNCTYPE(ctypes.c_int32, *[ctypes.c_void_p] * (2 + len(arrays)))(address)
        function(
            ctypes.addressof(result), ctypes.addressof(fault), *(a.ctypes.data for a in arrays)
        )

    return call


@cache
def _start_llvm() -> None:
    # Newer releases of llvmlite do this by themselves, and say so.
    with contextlib.suppress(RuntimeError):
        llvm.initialize()
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()


def _machine() -> Any:
    target = llvm.Target.from_default_triple()
    return target.create_target_machine(
        cpu=llvm.get_host_cpu_name(),
        features=llvm.get_host_cpu_features().flatten(),
        opt=3,
        codemodel="jitdefault",
    )


def sources() -> list[Path]:
    """Return the files that the machine code depends on: loops, their imports, and this file."""
    base = KERNEL.parents[1] / "base"
    return [*sorted(KERNEL.glob("*.py")), base / "histogram.py", base / "trace.py", Path(__file__)]


def _place(name: str) -> Path:
    """Return where the machine code of a loop is kept: named after all that it depends on."""
    from platformdirs import user_cache_path

    digest = hashlib.blake2b(digest_size=12)
    for source in sources():
        digest.update(source.read_bytes())
    for fact in (
        version("numba"),
        llvmlite.__version__,
        llvm.get_host_cpu_name(),
        llvm.get_host_cpu_features().flatten(),
    ):
        digest.update(fact.encode())
    return user_cache_path("jovik") / f"{name}-{digest.hexdigest()}.o"


def _compile(name: str) -> bytes:
    """Object code of a loop, by Numba and LLVM."""
    from importlib import import_module

    from numba import njit

    module = import_module(f"jovik.engine.kernel.{name}")
    # NumPy's rules for division: no check for zero, and so no exception, which would need the
    # interpreter.
    dispatcher = njit(
        module.ARGUMENTS,
        nogil=True,
        error_model="numpy",
        no_cpython_wrapper=True,
        no_cfunc_wrapper=True,
    )(getattr(module, name))
    compiled = dispatcher.overloads[module.ARGUMENTS]
    whole = llvm.parse_assembly(dispatcher.inspect_llvm(module.ARGUMENTS))
    for function in whole.functions:
        if not function.is_declaration and function.name != compiled.fndesc.llvm_func_name:
            function.linkage = "internal"
    loop = whole.get_function(compiled.fndesc.llvm_func_name)
    loop.name = SYMBOL
    return bytes(_machine().emit_object(whole))


def _sum(code: bytes) -> bytes:
    return hashlib.blake2b(code, digest_size=SUM_BYTES).digest()


def _kept(place: Path) -> bytes | None:
    """Return the stored code.

    None if nothing was, if it is not whole, or where others could write.

    A linker believes what it is given, and what it loads runs with this process's rights.
    """
    try:
        content = read_own(place)
    except OSError:
        return None
    code = content[SUM_BYTES:]
    return code if code and _sum(code) == content[:SUM_BYTES] else None


def _keep(place: Path, code: bytes) -> None:
    """Keep it, behind its checksum, for the next process.

    Where that is impossible each process compiles for itself.
    """
    with contextlib.suppress(OSError):
        make_own_folder(place.parent)
        write_atomically(place, _sum(code) + code, mode=0o600)
