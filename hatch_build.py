"""Build what a wheel has beside its sources: catalogues of languages, and the measuring loops.

The loops are for the machine that builds, or for `JOVIK_MACHINE`.
"""

from __future__ import annotations

import os
import platform
import sys
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

sys.path[:0] = [str(Path(__file__).parent / "src"), str(Path(__file__).parent / "tools")]


class BuiltFilesHook(BuildHookInterface[Any]):
    """Make `report/languages/*.json`, and compile and link `engine/loops-MACHINE.so`."""

    def dependencies(self) -> list[str]:
        """Return what a build needs beyond Numba: a linker, if the system has none for it."""
        from jovik.engine.kernel.library import own_linker

        return [] if machine() == platform.machine() and own_linker() else ["ziglang"]

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Add these files to the wheel, which is of any machine if there is no library."""
        from catalogues import build_all

        from jovik.engine.kernel.library import BASELINES, build
        from jovik.engine.loops import library_name

        for catalogue in build_all():
            build_data["artifacts"].append(f"/src/jovik/report/languages/{catalogue.name}")
        if sys.platform != "linux" or machine() not in BASELINES:
            return
        place = Path(self.root) / "src" / "jovik" / "engine" / library_name(machine())
        build(place, machine())
        build_data["artifacts"].append(f"/{place.relative_to(self.root)}")
        build_data["pure_python"] = False
        # Nothing of any version of a libc is linked.
        tags = f"manylinux_2_17_{machine()}.musllinux_1_1_{machine()}"
        build_data["tag"] = f"py3-none-{tags}"


def machine() -> str:
    """Return the architecture to build for."""
    return os.environ.get("JOVIK_MACHINE", platform.machine())
