"""From rows to the objects of all other packages, or the reason why a row is invalid.

Reading a shelf, importing an archive and checking a shelf all build records here and in
`jovik.shelf.run_records`, so that what is imported can be read, and what no reader can take is what
a check finds.
"""

from __future__ import annotations

import contextlib
import logging
import math
from collections.abc import Callable, Iterator, Mapping
from functools import cache, lru_cache
from itertools import pairwise
from typing import Any, TypeVar, cast, get_args, get_type_hints

from pydantic import ConfigDict, TypeAdapter, ValidationError

from jovik.base.errors import JovikError
from jovik.base.limits import JSON_DEPTH
from jovik.base.page_address import is_address
from jovik.hardware.rig import Rig
from jovik.sheets.instrument_log import RunLog
from jovik.sheets.reading import Note, Reading
from jovik.sheets.sheet import Claim, Drive
from jovik.steps import Step, parse

log = logging.getLogger(__name__)

T = TypeVar("T")


class DamagedRecord(ValueError):
    """A row that no reader can take, in words."""


@cache
def _adapter(sort: Any) -> TypeAdapter[Any]:
    # In a tuple, because pydantic gives a bare dataclass no settings.
    return TypeAdapter(
        tuple[sort],
        config=ConfigDict(extra="forbid", allow_inf_nan=False),
    )


def typed(sort: Callable[..., T], given: Any, what: str) -> T:
    """Build a record from plain data, the reverse of `jovik.base.plain_data.plain`.

    Raises
    ------
    DamagedRecord
        A field is missing, unknown, or of another type, or a number in it is not finite.
    """
    if not isinstance(given, Mapping):
        raise DamagedRecord(f"{what} cannot be read")
    if not all_finite(given):
        raise DamagedRecord(f"{what}: a number in it is not finite")
    try:
        (made,) = _adapter(sort).validate_python((_by_field(sort, given),))
    except ValidationError as error:
        first = error.errors()[0]
        *_, last = where = [str(part) for part in first["loc"][1:]] or [what]
        if first["type"] == "unexpected_keyword_argument":
            raise DamagedRecord(f"{what}: '{last}' is no field of it") from None
        if first["type"] == "dataclass_type":
            raise DamagedRecord(f"{what}: '{'.'.join(where)}' cannot be read") from None
        raise DamagedRecord(f"{what}: '{'.'.join(where)}': {first['msg'].lower()}") from None
    except (TypeError, ValueError, OverflowError) as error:
        raise DamagedRecord(f"{what}: {error}") from None
    return cast(T, made)


def _by_field(sort: Any, given: Any) -> Any:
    """Return plain data under the names of the fields, without derived values of `plain`."""
    if not isinstance(given, Mapping):
        return given
    keys: Mapping[str, str] = getattr(sort, "JSON_KEYS", {})
    names = {key: name for name, key in keys.items()}
    parts, values = _parts(sort), {}
    for key, value in given.items():
        if key in getattr(sort, "JSON_DERIVED", ()):
            continue
        name = names.get(key, key)
        values[name] = _by_field(parts[name], value) if name in parts else value
    return values


@cache
def _parts(sort: Any) -> dict[str, Any]:
    """Return the fields that hold a dataclass whose plain data differs from its fields."""
    return {
        name: part
        for name, hint in get_type_hints(sort).items()
        for part in get_args(hint)
        if hasattr(part, "JSON_DERIVED") or hasattr(part, "JSON_KEYS")
    }


def all_finite(value: Any) -> bool:
    """Return True if every number in it is one, and it is no deeper than any record."""
    layer = [value]
    for _ in range(JSON_DEPTH):
        below: list[Any] = []
        for v in layer:
            # JSON gives these types and none derived from them.
            if type(v) is dict:
                below += v.values()
            elif type(v) is list:
                below += v
            elif type(v) is float and not math.isfinite(v):
                return False
        if not below:
            return True
        layer = below
    return False


def read_drive(row: Mapping[str, Any]) -> Drive:
    """Return a drive from its columns."""
    parsed: Drive = typed(Drive, without(row, "address"), "a drive")
    if not parsed.name.strip():
        raise DamagedRecord("a drive has no name")
    address = row.get("address")
    if address is not None and not is_address(address):
        raise DamagedRecord(f"{address!r:.40} is not the address of a page")
    return parsed


def read_claim(row: Mapping[str, Any]) -> Claim:
    """Return a claim from its columns."""
    parsed: Claim = typed(Claim, without(row, "position"), "a claim")
    if parsed.unit not in ("bytes/s", "IOPS", "ns") or parsed.figure <= 0:
        raise DamagedRecord(f"a claim of {parsed.figure!r} {parsed.unit!r:.20}")
    return parsed


def read_rig(row: Mapping[str, Any]) -> Rig:
    """Return a rig from its columns."""
    given = without(row, "notes") if isinstance(row, Mapping) and row.get("notes") is None else row
    return typed(Rig, given, "a rig")


def read_note(row: Mapping[str, Any]) -> Note:
    """Return a note from its columns."""
    return typed(Note, row, "a note")


def read_run_log(row: Mapping[str, Any]) -> RunLog:
    """Return an instrument's log beside a run from its columns."""
    given = dict(row)
    for name in ("seconds", "readings"):
        series = given.get(name)
        if not isinstance(series, list) or not all(_isall_finite(x) for x in series):
            raise DamagedRecord(f"the {name} of a log are no numbers")
        given[name] = tuple(map(float, series))
    log: RunLog = typed(RunLog, given, "a log")
    if len(log.seconds) != len(log.readings) or not log.seconds:
        raise DamagedRecord("the log of an instrument has not one value for each time")
    if any(b < a for a, b in pairwise(log.seconds)):
        raise DamagedRecord("the times of a log do not rise")
    return log


def _isall_finite(value: object) -> bool:
    return isinstance(value, int | float) and math.isfinite(value)


def read_reading(row: Mapping[str, Any]) -> Reading:
    """Return a reading from its columns."""
    parsed: Reading = typed(Reading, row, "a reading")
    if parsed.phrase is not None:
        read_phrase(parsed.phrase)
    return parsed


@lru_cache(maxsize=4096)
def _parsed(text: str) -> Step:
    """Return a phrase, shared because shelves repeat the same few."""
    return parse(text)


def read_phrase(text: Any) -> Step:
    """Return a step from its phrase."""
    if not isinstance(text, str):
        raise DamagedRecord("its phrase is no text")
    try:
        return _parsed(text)
    except JovikError as error:
        why = error.message.splitlines()[0]
        raise DamagedRecord(f"'{text[:60]}' is no phrase: {why}") from None


def without(stored: Any, name: str) -> Any:
    """Return a row without one of its columns."""
    return {k: v for k, v in stored.items() if k != name} if isinstance(stored, Mapping) else stored


@contextlib.contextmanager
def naming(at: str) -> Iterator[None]:
    """Log a damaged record by name, and raise the error again."""
    try:
        yield
    except DamagedRecord as error:
        log.warning("%s is damaged and left out: %s", at, error)
        raise
