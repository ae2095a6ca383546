"""Options that several commands share, and values with units as Click types."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

import click

F = TypeVar("F", bound=Callable[..., Any])


def shelf_option(command: F) -> F:
    """`--shelf WHERE`."""
    about = (
        "The shelf: a file, or the address of a PostgreSQL database. Default: "
        "JOVIK_SHELF, your settings, or a file in your data folder."
    )
    return click.option("--shelf", "shelf_at", metavar="WHERE", envvar="JOVIK_SHELF", help=about)(
        command
    )


def format_option(*more: str) -> Callable[[F], F]:
    """`--format table|json|csv` and further forms of a command, such as ``markdown``."""
    return click.option(
        "--format",
        "form",
        type=click.Choice(["table", "json", "csv", *more]),
        default="table",
        show_default=True,
        help="Output format.",
    )


def language_option(command: F) -> F:
    """`--language CODE` of pages."""
    from jovik.cli.completion import languages

    return click.option(
        "--language",
        default="en",
        show_default=True,
        metavar="CODE",
        shell_complete=languages,
        help="Of the page: de, en, es or fr. What you wrote stays as it is.",
    )(command)


def force_option(command: F) -> F:
    """`--force`."""
    return click.option(
        "--force", is_flag=True, help="Also replace a file that Jovik did not create."
    )(command)


def unattended_options(command: F) -> F:
    """`--quiet`, `--progress json` and `--on-end COMMAND`."""
    for option in (
        click.option(
            "--on-end",
            metavar="COMMAND",
            help="Run this when it has ended, however it ended, with the verdict as JSON on its "
            "standard input.",
        ),
        click.option(
            "--progress",
            type=click.Choice(["json"]),
            help="A line of JSON for each event on standard error, instead of words.",
        ),
        click.option("--quiet", is_flag=True, help="Print only the answer, and errors."),
    ):
        command = option(command)
    return command


def destroy_options(command: F) -> F:
    """`--destroy SERIAL` and `--content-worthless`."""
    for option in (
        click.option(
            "--content-worthless",
            is_flag=True,
            help="With --destroy: also overwrite data that Jovik cannot identify.",
        ),
        click.option(
            "--destroy",
            metavar="SERIAL",
            help="Allow writing to the raw device with this serial number. All data on it is lost.",
        ),
    ):
        command = option(command)
    return command


if TYPE_CHECKING:
    Base = click.ParamType[Any]
else:
    Base = click.ParamType  # older releases of Click cannot be subscripted


class UnitParam(Base):
    """A value that a function of the core reads. Its ValueError is the message."""

    def __init__(self, name: str, convert: Callable[[str], Any]) -> None:
        self.name = name
        self._convert = convert

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Read it, or fail with one line."""
        if not isinstance(value, str):
            return value
        try:
            return self._convert(value)
        except ValueError as error:
            self.fail(str(error), param, ctx)


def percent(text: str) -> float:
    """``2%`` as 0.02."""
    try:
        value = float(text.removesuffix("%").strip()) / 100
    except ValueError:
        value = -1.0
    if not text.endswith("%") or not 0 < value < 10:
        raise ValueError(f"'{text}' is not a percentage; write 2%")
    return value


def share(text: str) -> float:
    """Return ``2%`` as 0.02. It must be below 100 %."""
    value = percent(text)
    if value >= 1:
        raise ValueError(f"'{text}' is not a percentage below 100%; write for example 5%")
    return value


def count_range(text: str) -> tuple[int, int]:
    """``5`` as (5, 5) and ``3..9`` as (3, 9)."""
    low, dots, high = text.partition("..")
    try:
        least, most = int(low), int(high if dots else low)
    except ValueError:
        least, most = 0, 0
    if not 1 <= least <= most <= 1000:
        raise ValueError(f"'{text}' is not a number of passes; write 5 or 3..9")
    return least, most
