"""Sizes, times, rates and counts: reading them as people write them, and spelling them one way.

MB is 10^6 bytes and MiB is 2^20 (IEC 80000-13). Nothing here guesses: a bare "4k" is refused,
because it could mean either.
"""

from __future__ import annotations

import math
import re
from fractions import Fraction

from jovik.base.rate_unit import RATE_UNITS, per_unit, rate_unit

SIZES: dict[str, int] = {
    "B": 1,
    "kB": 10**3,
    "MB": 10**6,
    "GB": 10**9,
    "TB": 10**12,
    "PB": 10**15,
    "KiB": 2**10,
    "MiB": 2**20,
    "GiB": 2**30,
    "TiB": 2**40,
}
"""Bytes in each unit of size."""

TIME_UNITS: dict[str, int] = {
    "ns": 1,
    "us": 10**3,
    "ms": 10**6,
    "s": 10**9,
    "min": 60 * 10**9,
    "h": 3600 * 10**9,
}
"""Nanoseconds in each unit of time."""

MAX_QUANTITY = 2**63 - 1
"""No size, time or rate is larger.

It is the maximum of a system's offset and of a shelf's column.
"""
MOST_DIGITS = 40
"""Nobody writes a number with more."""

MOST_EXPONENT = 18
"""Of ten: a larger one is beyond `MAX_QUANTITY`."""

_NUMBER = re.compile(r"\s*(\d+(?:[.,_]\d+)*)(?:[eE]([+-]?\d{1,4}))?\s*([^\d\s].*?)?\s*\Z")
_GROUPED = re.compile(r"\s*([1-9]\d{0,2}\.\d{3})(?![\d.])")
_BITS = re.compile(r"[kKMGTmgt]?i?b\Z")
_CLOCK = re.compile(r"\s*(?:(\d{1,3}):)?(\d{1,4}):([0-5]\d)(?:\s*(min|h))?\s*\Z")
_COMPOUND = re.compile(
    r"\s*(?:(\d{1,9})\s*h)?\s*(?:(\d{1,9})\s*min)?\s*(?:(\d{1,9}(?:\.\d{1,9})?)\s*s)?\s*\Z"
)
_FOLDED_SIZES = {name.casefold(): name for name in SIZES}
_FOLDED_TIMES = {name.casefold(): name for name in TIME_UNITS} | {
    "µs".casefold(): "us",
    "sec": "s",
    "m": "min",
}


def parse_number(text: str) -> tuple[float, str]:
    """Return ``"1,000.5 dB(A)"`` as the number and the unit after it.

    Raises
    ------
    ValueError
        No number, or one that can be read twice; with the sentence to show.
    """
    negative = text.lstrip().startswith("-")
    value, unit = _number(text.lstrip().removeprefix("-"), exponents=True)
    value = _at_most(value, text)
    return float(-value if negative else value), unit


def _number(text: str, *, exponents: bool = False) -> tuple[Fraction, str]:
    """Split ``"1,000.5 MB"`` into the exact number and its unit.

    Parameters
    ----------
    exponents : bool
        If true, accept ``3.1E+01``, as instruments and spreadsheets write it.

    Raises
    ------
    ValueError
        With the sentence to show.
    """
    match = _NUMBER.match(text)
    if not match:
        raise ValueError(f"'{text}' is not a number with a unit")
    digits = match[1].replace("_", "")
    # A comma is a thousands separator only where three digits follow it; "7,5" could be either and
    # is refused.
    if "," in digits:
        if not re.fullmatch(r"\d{1,3}(,\d{3})+(\.\d+)?", digits):
            written = match[1].replace(",", ".") if digits.count(",") == 1 else "7,500"
            raise ValueError(
                f"'{match[1]}': a comma stands before groups of three digits only; write {written}"
            )
        digits = digits.replace(",", "")
    if digits.count(".") > 1:
        raise ValueError(f"'{match[1]}' is not a number")
    if len(digits) > MOST_DIGITS:
        raise ValueError(f"a number of {len(digits)} digits is too long")
    exponent = int(match[2] or 0)
    if match[2] and not exponents:
        raise ValueError(f"'{text.strip():.40}': write the number without an exponent")
    if abs(exponent) > MOST_EXPONENT:
        raise ValueError(f"'{text.strip():.40}' is larger or smaller than any figure")
    return Fraction(digits) * Fraction(10) ** exponent, match[3] or ""


def _refuse_grouped_by_points(text: str) -> None:
    """Refuse ``7.000``: seven to some, seven thousand to others.

    Raises
    ------
    ValueError
        The number is one to three digits, a point and three more.
    """
    match = _GROUPED.match(text)
    if match:
        whole = match[1].replace(".", "")
        raise ValueError(
            f"'{match[1]}' is ambiguous; write {int(whole):,} or {match[1].split('.')[0]}"
            + ("" if match[1].endswith("000") else f".{match[1].split('.')[1].rstrip('0')}")
        )


def _refuse_bits(text: str, unit: str) -> None:
    """Refuse ``6Gb/s``: a small b is a bit, and few who write it mean one.

    Raises
    ------
    ValueError
        With both readings.
    """
    number = text.strip()[: -len(unit)].strip()
    prefix = unit[:-1]
    prefix = {"K": "k"}.get(prefix, prefix) if prefix in ("k", "K") else prefix.capitalize()
    name = f"{prefix}B"
    eighth = _number(number)[0] * SIZES.get(name, 1) / 8
    raise ValueError(
        f"'{text.strip()}' can be read twice: write {number}{name} if bytes are meant, or "
        f"{significant(float(eighth) / 1e6)}MB if it is bits"
    )


def _at_most(value: Fraction, text: str) -> Fraction:
    """Return the value, where anything can hold it."""
    if value > MAX_QUANTITY:
        raise ValueError(f"'{text}' is too large")
    return value


def parse_size(text: str) -> int:
    """Return bytes of a size such as ``4KiB``, ``1.5 GB`` or ``512B``.

    Raises
    ------
    ValueError
        No number, no unit, an unknown unit, or not a whole number of bytes.
    """
    size = _size(text)
    if size.denominator != 1:
        raise ValueError(f"'{text}' is not a whole number of bytes")
    return int(size)


def _size(text: str) -> Fraction:
    """Bytes, which a rate may have parts of."""
    number, unit = _number(text)
    if not unit:
        raise ValueError(f"'{text}' has no unit; write {text}B, {text}KiB, {text}MB ...")
    # "4 kib" is written in one case by habit; "6Gb" is not.
    if _BITS.fullmatch(unit) and not unit.islower():
        _refuse_bits(text, unit)
    name = _FOLDED_SIZES.get(unit.casefold())
    if name is None:
        if unit.casefold() in ("k", "m", "g", "t"):
            letter = unit.upper()
            decimal = "kB" if letter == "K" else letter + "B"
            raise ValueError(
                f"'{text}' is ambiguous; write {text[:-1]}{letter}iB (binary) or "
                f"{text[:-1]}{decimal} (decimal)"
            )
        raise ValueError(f"'{unit}' is not a unit of size; there are {', '.join(SIZES)}")
    return _at_most(number * SIZES[name], text)


def parse_endurance(text: str) -> int:
    """Return bytes of an endurance rating, ``600TB`` or as makers print it ``600 TBW``.

    Raises
    ------
    ValueError
        As `parse_size`.
    """
    stripped = text.strip()
    written = stripped[-1:] in ("W", "w") and stripped[:-1].rstrip()[-1:] in ("B", "b")
    return parse_size(stripped[:-1] if written else stripped)


def parse_time(text: str) -> int:
    """Return nanoseconds of a time such as ``5s``, ``500ms``, ``9min 30s`` or ``9:30``.

    Raises
    ------
    ValueError
        No number, no unit or an unknown one.
    """
    clock = _CLOCK.match(text)
    if clock is not None:
        hours, minutes, seconds, unit = clock.groups()
        if unit == "h" and hours is None:
            hours, minutes, seconds = minutes, seconds, "0"
        if hours is not None and int(minutes) > 59:
            raise ValueError(f"'{text}' is not a time; write 1:09:30 or 1h 9min 30s")
        whole = (int(hours or 0) * 60 + int(minutes)) * 60 + int(seconds)
        return round(_at_most(Fraction(whole * TIME_UNITS["s"]), text))
    parts = _COMPOUND.match(text)
    if parts is not None and sum(p is not None for p in parts.groups()) > 1:
        units = zip(parts.groups(), ("h", "min", "s"), strict=True)
        return round(
            _at_most(sum((Fraction(p) * TIME_UNITS[u] for p, u in units if p), Fraction(0)), text)
        )
    number, unit = _number(text)
    name = _FOLDED_TIMES.get(unit.casefold())
    if name is None:
        raise ValueError(f"'{text}' is not a time; write 5s, 500ms, 9min 30s or 1h")
    return round(_at_most(number * TIME_UNITS[name], text))


def parse_rate(text: str) -> tuple[float, str]:
    """Return a rate such as ``550 MB/s`` or ``95,000 IOPS``.

    Returns
    -------
    (value, unit)
        Bytes a second with unit ``"bytes/s"``, or I/Os a second with unit ``"IOPS"``.

    Raises
    ------
    ValueError
        Neither of the two, or one that can be read twice.
    """
    stripped = text.strip()
    if stripped.casefold().endswith("iops"):
        number = stripped[:-4].strip()
        scale = 1
        if number[-1:].casefold() in ("k", "m"):
            scale = 1000 if number[-1].casefold() == "k" else 10**6
            number = number[:-1]
        else:
            _refuse_grouped_by_points(number)
        value, unit = _number(number)
        if unit:
            raise ValueError(f"'{text}' is not a number of IOPS")
        return float(_at_most(value * scale, text)), "IOPS"
    if stripped.endswith("/s"):
        amount = stripped[:-2]
        _refuse_grouped_by_points(amount)
        unit = _number(amount)[1]
        if _BITS.fullmatch(unit):
            _refuse_bits(amount, unit)
        return float(_size(amount)), "bytes/s"
    raise ValueError(f"'{text}' is not a rate; write 550MB/s or 95000 IOPS")


def parse_link(text: str) -> float:
    """Return the payload rate of a link, such as ``1000MB/s``, in bytes a second.

    Raises
    ------
    ValueError
        It is no rate in bytes, or none above zero.
    """
    value, unit = parse_rate(text)
    if unit != "bytes/s" or value <= 0:
        raise ValueError(f"'{text}' is not a rate; write 1000MB/s")
    return value


def _shortest(value: int, units: dict[str, int]) -> str:
    """Return the shortest exact spelling, with one decimal at most.

    Of two as short, the one in the larger unit.
    """
    fitting = [
        (f"{value // scale}{name}", scale) for name, scale in units.items() if value % scale == 0
    ]
    fitting += [
        (f"{value // scale}.{value * 10 // scale % 10}{name}", scale)
        for name, scale in units.items()
        if value > scale and value % scale and value * 10 % scale == 0
    ]
    return min(fitting, key=lambda pair: (len(pair[0]), -pair[1]))[0]


def spell_size(size_bytes: int) -> str:
    """Return the exact canonical spelling: ``parse_size(spell_size(n)) == n``."""
    return _shortest(size_bytes, SIZES)


def spell_time(time_ns: int) -> str:
    """Return the exact canonical spelling: ``parse_time(spell_time(n)) == n``."""
    return _shortest(time_ns, TIME_UNITS)


def significant(value: float, digits: int = 3) -> str:
    """Return a number with this many significant digits, no exponent, commas for thousands."""
    if value == 0 or not math.isfinite(value):
        return "0" if value == 0 else str(value)
    rounded = round(value, digits - 1 - math.floor(math.log10(abs(value))))
    # Rounding may carry into one more digit: 0.9996 is 1.00.
    places = max(0, digits - 1 - math.floor(math.log10(abs(rounded))))
    return f"{rounded:,.{places}f}"


def show_size(size_bytes: float, digits: int = 3) -> str:
    """Return a size for people, decimal units: ``12.3 GB``."""
    for name in ("PB", "TB", "GB", "MB", "kB"):
        # What three digits would round to a thousand belongs to the larger unit.
        if size_bytes >= SIZES[name] * (1 - 0.5 * 10**-digits):
            return f"{significant(size_bytes / SIZES[name], digits)} {name}"
    return f"{size_bytes:.0f} B"


def show_rate(rate_bytes_s: float, digits: int = 3) -> str:
    """Return a rate for people, in MB/s as makers advertise unless another unit was chosen."""
    return f"{significant(rate_bytes_s * per_unit(), digits)} {rate_unit()}"


_RATE = re.compile(rf"(?<![\w.])([\d,]+(?:\.\d+)?) ({'|'.join(RATE_UNITS)})(?!\w)")


def in_rate_unit(text: str) -> str:
    """Return a stored note with its rates in the unit that rates are shown in."""

    def converted(match: re.Match[str]) -> str:
        if match[2] == rate_unit():
            return match[0]
        return show_rate(float(match[1].replace(",", "")) * RATE_UNITS[match[2]])

    return _RATE.sub(converted, text)


def show_time(time_ns: float, digits: int = 3) -> str:
    """Return a time for people: ``85.0 µs``, ``3.2 ms``, ``12 s``, ``4 min 5 s``."""
    if time_ns >= 120e9:
        minutes, seconds = divmod(round(time_ns / 1e9), 60)
        hours, minutes = divmod(minutes, 60)
        return f"{hours} h {minutes} min" if hours else f"{minutes} min {seconds} s"
    for name in ("s", "ms", "us"):
        if time_ns >= TIME_UNITS[name]:
            shown = "µs" if name == "us" else name
            return f"{significant(time_ns / TIME_UNITS[name], digits)} {shown}"
    return f"{time_ns:.0f} ns"


def show_time_or_dash(time_ns: float | None) -> str:
    """Return a time in words, or a dash if it is None."""
    return "-" if time_ns is None else show_time(time_ns)


def digits_for(low: float, high: float, least: int = 3, most: int = 6) -> int:
    """Return the significant digits at which an interval's ends differ by two or more.

    After the GUM (JCGM 100:2008, 7.2.6): an uncertainty to two digits at most, and the figure to
    the same place.
    """
    middle = max(abs(low), abs(high))
    apart = abs(high - low)
    if not middle or apart < 1e-6 * middle or not math.isfinite(middle) or not math.isfinite(apart):
        return least
    needed = math.floor(math.log10(middle)) - math.floor(math.log10(apart / 2)) + 1
    return min(max(least, needed), most)
