"""The file of a twin: a model drive that names the drive, runs and steps behind its parameters.

It is foreign input where it comes from a site: `jovik.simulator.catalogue` checks all of it.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from jovik.base.errors import UsageError
from jovik.base.quantities import spell_size
from jovik.base.toml_files import read_toml
from jovik.sheets.sheet import Sheet, write_sheet
from jovik.simulator.catalogue import ModelFile
from jovik.simulator.parameters import Behaviour
from jovik.simulator.twin import SOLID, TIMES, Predictor, Twin, shown
from jovik.simulator.twin_from_others import Parameter

if TYPE_CHECKING:
    from tomlkit.items import Table

SOMETIMES = (
    *(
        "read_limit",
        "write_limit",
        "mixed_share",
        "latency_spread",
        "write_latency_spread",
        "flash_size",
        "full_from",
    ),
    "full_share",
)
"""Parameters that only some results determine, and that are left out otherwise."""
PARTS = {
    "platter": ("outer_rate", "inner_rate", "rpm", "seek", "settle", "queue_gain"),
    "heat": ("idle", "full", "time", "throttle_at", "resume_at", "throttle_share"),
}
"""Tables of a behaviour that a fit knows."""
HEAD = "# A twin, made with Jovik.\n"


@dataclass(frozen=True)
class Origin:
    """The samples, firmware versions and runs that a twin comes from, and the day."""

    samples: tuple[str, ...]
    firmware: tuple[str, ...]
    runs: tuple[str, ...]
    day: str


def twin_name(drive: str) -> str:
    """Return the name of a drive's twin, which is a drive of its own."""
    return f"{drive}, twin"


def twin_toml(twin: Twin, origin: Origin) -> str:
    """Return a twin as the file of a model drive, which `load_model` reads.

    It has no claims: what it would do decides nothing about what a maker promises.
    """
    import tomlkit

    named = replace(twin.drive, name=twin_name(twin.drive.name))
    document = tomlkit.parse(HEAD + write_sheet(Sheet(named)))
    document["behaviour"] = _table(twin.behaviour, origin)
    about = tomlkit.table()
    about["drive"] = twin.drive.name
    for key in ("samples", "firmware", "runs"):
        about[key] = list(getattr(origin, key))
    about["fitted"] = origin.day
    about["typical_error"] = round(twin.typical_error, 5)
    about["not_determined"] = [p.name for p in twin.parameters if not p.determined]
    determined = tomlkit.table()
    for p in twin.parameters:
        if p.determined:
            determined[p.name] = [_range_words(p), *p.phrases]
    about["determined"] = determined
    about["fast"] = _table(twin.fast, origin)
    about["slow"] = _table(twin.slow, origin)
    document["origin"] = about
    return tomlkit.dumps(document)


def read_twin(text: str, where: str) -> Predictor:
    """Return the twin in a file.

    Raises
    ------
    UsageError
        It is not the file of a twin: the line and key are in the message.
    """
    given = read_toml(text, where, ModelFile)
    origin = given.origin
    if origin is None or origin.fast is None or origin.slow is None:
        raise UsageError(f"{where} is no twin", "jovik twin DRIVE --out FILE.toml writes one")
    drive = replace(given.sheet().drive, name=origin.drive)
    return Predictor(drive, given.behaviour, origin.fast, origin.slow, origin.typical_error)


def _table(behaviour: Behaviour, origin: Origin) -> Table:
    """Return the parameters of a behaviour that a fit knows."""
    import tomlkit

    table = tomlkit.table()
    for name in (*SOLID, "cache_size", "direct_write_rate", "drain_rate", "file_time"):
        table[name] = _spelled(name, getattr(behaviour, name))
    for name in SOMETIMES:
        value = getattr(behaviour, name)
        if value is not None and value != Behaviour.model_fields[name].default:
            table[name] = _spelled(name, value)
    table["capacity"] = _spelled("capacity", behaviour.capacity)
    table["firmware"] = " ".join(origin.firmware) or "unknown"
    for part, names in PARTS.items():
        of = getattr(behaviour, part)
        if of is not None:
            own = tomlkit.table()
            for name in names:
                own[name] = _spelled(name, getattr(of, name))
            table[part] = own
    return table


def _range_words(parameter: Parameter) -> str:
    """Return the 95 % interval of a parameter in words."""
    value = parameter.value
    if value.low is None or value.high is None:
        return "no interval"
    low, high = (shown(parameter.name, x) for x in (value.low, value.high))
    return f"{low} to {high}"


def _spelled(name: str, value: float) -> str | int | float:
    """Return the value of a parameter as a model's file has it."""
    if name in (*TIMES, "file_time", "settle", "seek", "time"):
        return f"{round(value)}ns"
    if name.endswith(("_rate", "_limit")):
        return f"{round(value)}B/s"
    if name in ("cache_size", "capacity", "flash_size"):
        return spell_size(round(value))
    return round(value) if name in ("read_iops", "write_iops", "rpm") else round(value, 4)
