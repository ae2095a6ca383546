"""A user's own defaults.

A TOML file with the shelf and, in a table for each command, what its options are unless given.

shelf = "/srv/lab/shelf.db"

[measure]
rig = "bench, rear port"
passes = 7
"""

from __future__ import annotations

import os
import tomllib
from pathlib import Path
from typing import Any

from jovik.base.atomic_files import write_atomically
from jovik.base.errors import OutputError, UsageError
from jovik.base.secrets import looks_like_address
from jovik.base.text_files import read_text

SHELF, UNITS, IOPS, NOTES = "shelf", "units", "iops", "notes"
GENERAL = {
    SHELF: "The shelf of every command.",
    UNITS: "The unit of rates for every command: MB/s, MiB/s or GB/s.",
    IOPS: "Whether IOPS come first or second in a table, for every command.",
    NOTES: "Whether notes below a table are shown or counted, for every command.",
}
"""Keys that belong to no command, with a description of each."""


def default_shelf() -> Path:
    """Return the default place of the shelf."""
    from platformdirs import user_data_path

    return user_data_path("jovik") / "shelf.db"


def where_from(option: str | None) -> str:
    """Return the shelf's place.

    The option, else `JOVIK_SHELF`, else what the person's settings say, else the platform's data
    folder.
    """
    return option or os.environ.get("JOVIK_SHELF") or shelf_setting() or str(default_shelf())


def settings_path() -> Path | None:
    """Return the settings file: `JOVIK_CONFIG`, else in the platform's configuration folder."""
    named = os.environ.get("JOVIK_CONFIG")
    if named is not None:
        return Path(named) if named else None
    from platformdirs import user_config_path

    return user_config_path("jovik") / "config.toml"


def read_settings() -> dict[str, Any]:
    """Return the content of the file, or nothing if there is none.

    Raises
    ------
    UsageError
        It is not TOML, or has something else than the shelf and a table for each command.
    """
    path = settings_path()
    if path is None or not path.exists():
        return {}
    try:
        settings = tomllib.loads(read_text(path))
    except (ValueError, RecursionError) as error:
        raise UsageError(
            f"your settings {path} are not TOML: {error}", "mend the file, or move it away"
        ) from None
    for key, value in settings.items():
        if key not in GENERAL and not isinstance(value, dict):
            raise UsageError(
                f"{path}: '{key}' is not a setting of its own",
                f"there is {', '.join(GENERAL)}, and a table for each command: [measure]",
            )
    for key in (UNITS, IOPS, NOTES):
        if key in settings:
            checked_general(key, str(settings[key]))
    if not isinstance(settings.get(SHELF, ""), str) or settings.get(SHELF) == "":
        raise UsageError(
            f"{path}: '{SHELF}' is not the place of a shelf", "write a path or an address in quotes"
        )
    return settings


def checked_general(key: str, text: str) -> str:
    """Return a setting of no command as it is kept.

    Raises
    ------
    UsageError
        It cannot be that.
    """
    from jovik.base.rate_unit import RATE_UNITS
    from jovik.base.small_print import CHOICES

    if key == SHELF:
        return place_of_shelf(text)
    allowed = {UNITS: tuple(RATE_UNITS), IOPS: ("first", "second"), NOTES: CHOICES}[key]
    if text not in allowed:
        raise UsageError(f"{key} cannot be '{text}'", f"write {', '.join(allowed)}")
    return text


def write_setting(table: str | None, key: str, value: Any) -> Path:
    """Set a value, or remove it with None.

    The rest of the file, comments included, stays as it is.

    Parameters
    ----------
    table : str or None
        The command, or None for a key that belongs to no command.

    Raises
    ------
    UsageError
        The file there is cannot be read, or no file is wanted (`JOVIK_CONFIG` is empty).
    OutputError
        It cannot be written.
    """
    import tomlkit

    path = settings_path()
    if path is None:
        raise UsageError(
            "JOVIK_CONFIG is empty, so there are no settings", "unset it, or let it name a file"
        )
    read_settings()
    try:
        document = tomlkit.parse(read_text(path)) if path.exists() else tomlkit.document()
        level: Any = document
        if table is not None:
            if table not in document and value is not None:
                document[table] = tomlkit.table()
            level = document.get(table, {})
        if value is None:
            level.pop(key, None)
        else:
            level[key] = value
        path.parent.mkdir(parents=True, exist_ok=True)
        # A link to a file elsewhere, as people who keep their settings in a repository have, stays.
        path = path.resolve()
        # A server's address may have a password in it.
        write_atomically(path, tomlkit.dumps(document).encode(), mode=0o600)
    except OSError as error:
        raise OutputError(f"your settings {path} cannot be written: {error.strerror}") from None
    return path


def line_of_setting(table: str | None, key: str) -> str:
    """Return where a setting stands, for messages: the file and the line."""
    from jovik.base.toml_files import line_of

    path = settings_path()
    if path is None or not path.exists():
        return str(path)
    return f"{path}, line {line_of(read_text(path), (key,) if table is None else (table, key))}"


def shelf_setting() -> str | None:
    """Return the shelf that the settings name."""
    return read_settings().get(SHELF)


def place_of_shelf(text: str) -> str:
    """Return a shelf's place as a setting keeps it.

    An address as it is, a path as it is meant from everywhere.

    Raises
    ------
    UsageError
        There is none.
    """
    if not text.strip():
        raise UsageError(
            "the shelf needs a place", "to go back to the usual one: jovik config unset shelf"
        )
    return text if looks_like_address(text) else os.path.abspath(os.path.expanduser(text))
