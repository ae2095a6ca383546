"""Compile the loops and link them to a shared library, when a wheel is built (`hatch_build.py`).

Numba turns each loop into LLVM's own language, which becomes an object for the baseline of an
architecture: another one's, too. The library needs nothing but libc, whose symbols the process has
already, and nothing of Numba.

``python -m jovik.engine.kernel.library`` rebuilds the library in a source tree.
"""

from __future__ import annotations

import os
import platform
import shutil
import subprocess
import sys
import tempfile
from importlib import import_module
from pathlib import Path

# Numba would choose the widths of vectors for the machine that builds.
os.environ.setdefault("NUMBA_CPU_NAME", "generic")
os.environ.setdefault("NUMBA_CPU_FEATURES", "")

import llvmlite.binding as llvm
from numba import njit

from jovik.engine.loops import LIBRARY, LOOPS, SYMBOL_PREFIX

BASELINES = {"x86_64": "x86-64", "aarch64": "generic"}
"""The processor that each architecture's wheel is compiled for.

Loops for x86-64-v3, and for the processor of the machine itself, are no faster: over three
benchmarks of 15 pairs each they had 0.96 to 1.01 times the rate of these.
"""
IMPORTED = {
    *("clock_gettime", "nanosleep", "syscall", "pread", "pwrite", "fdatasync", "memcmp"),
    "__errno_location",
}
"""What the library takes from libc, and all that it may take from anywhere."""
_engines: list[llvm.ExecutionEngine] = []  # the memory of loaded code belongs to these


def build(out: Path, machine: str) -> None:
    """Write the library of an architecture.

    Raises
    ------
    KeyError
        It is none of `BASELINES`.
    RuntimeError
        There is no linker for it, or the linker failed, with its words.
    """
    target = f"{machine}-unknown-linux-gnu"
    with tempfile.TemporaryDirectory() as folder:
        objects = []
        for name in LOOPS:
            place = Path(folder) / f"{name}.o"
            place.write_bytes(_object(name, target, BASELINES[machine]))
            objects.append(str(place))
        made = Path(folder) / out.name
        # Undefined symbols stay so: the process has them, of whichever libc.
        words = [*linker(machine), "-shared", "-nostdlib", "-Wl,--strip-all", "-o", str(made)]
        done = subprocess.run([*words, *objects], capture_output=True, text=True, check=False)
        if done.returncode:
            raise RuntimeError(f"{words[0]} cannot link the loops: {done.stderr.strip()}")
        shutil.copyfile(made, out)


def linker(machine: str) -> list[str]:
    """Return the command that links for an architecture.

    Raises
    ------
    RuntimeError
        There is none.
    """
    own = own_linker()
    if machine == platform.machine() and own is not None:
        return [own]
    try:
        import ziglang
    except ImportError:
        raise RuntimeError(
            f"no linker for {machine}: install a C compiler, or pip install ziglang"
        ) from None
    zig = Path(ziglang.__file__).with_name("zig")
    return [str(zig), "cc", "-target", f"{machine}-linux-musl"]


def own_linker() -> str | None:
    """Return the system's own linker, which is the C compiler's."""
    names = [n for n in (os.environ.get("CC"), "cc", "gcc", "clang") if n]
    return next(filter(None, map(shutil.which, names)), None)


def in_memory() -> dict[str, int]:
    """Return the addresses of loops that were compiled for this machine, in this process."""
    target = llvm.get_default_triple()
    addresses = {}
    for name in LOOPS:
        machine = _machine(target, llvm.get_host_cpu_name())
        engine = llvm.create_mcjit_compiler(llvm.parse_assembly(""), machine)
        code = _object(name, target, llvm.get_host_cpu_name())
        engine.add_object_file(llvm.ObjectFileRef.from_data(code))
        engine.finalize_object()
        _engines.append(engine)
        addresses[name] = engine.get_function_address(SYMBOL_PREFIX + name)
    return addresses


def _machine(target: str, processor: str) -> llvm.TargetMachine:
    llvm.initialize_all_targets()
    llvm.initialize_all_asmprinters()
    return llvm.Target.from_triple(target).create_target_machine(
        cpu=processor, opt=3, reloc="pic", codemodel="default"
    )


def _object(name: str, target: str, processor: str) -> bytes:
    """Return the position-independent object code of a loop."""
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
    lines = dispatcher.inspect_llvm(module.ARGUMENTS).splitlines()
    own = ("target triple", "target datalayout")
    whole = llvm.parse_assembly("\n".join(x for x in lines if not x.startswith(own)))
    machine = _machine(target, processor)
    whole.triple, whole.data_layout = target, str(machine.target_data)
    for one in (*whole.functions, *whole.global_variables):
        if not one.is_declaration and one.name != compiled.fndesc.llvm_func_name:
            one.linkage = "internal"
    imported = {f.name for f in whole.functions if f.is_declaration}
    foreign = {f for f in imported - IMPORTED if not f.startswith("llvm.")}
    if foreign and sys.platform == "linux":
        raise RuntimeError(f"{name} needs {', '.join(sorted(foreign))}, which is not of libc")
    whole.get_function(compiled.fndesc.llvm_func_name).name = SYMBOL_PREFIX + name
    return bytes(machine.emit_object(whole))


if __name__ == "__main__" and sys.platform == "linux" and platform.machine() in BASELINES:
    build(LIBRARY, platform.machine())
