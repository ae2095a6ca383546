"""Carry out `jovik config`."""

from __future__ import annotations

from typing import Any

import click

from jovik.base.errors import UnknownNameError
from jovik.base.rate_unit import DEFAULT
from jovik.base.settings import (
    GENERAL,
    SHELF,
    checked_general,
    default_shelf,
    read_settings,
    settings_path,
    write_setting,
)
from jovik.cli.echo import echo
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.settings_defaults import known_keys, option_called, options_of, read_value, settable
from jovik.cli.terminal_table import show_table
from jovik.shelf.place import shown_place
from jovik.tables import Table


def show(form: str = "table") -> None:
    """Show the settings, and their file."""
    rows = [(key, _shown(value)) for key, value in _set_values().items()]
    path = settings_path()
    if form == "json":
        emit_json(
            {"file": str(path) if path is not None else None, "settings": _set_values()}, "settings"
        )
    elif form == "csv":
        emit_csv(["key", "value"], rows)
    elif rows:
        show_table(Table("Your settings", ["key", "value"], rows, notes=[f"from {path}"]))
    else:
        echo(f"there are no settings; the file would be {path}")
        echo("  jovik config keys lists all settings")


def keys(form: str) -> None:
    """Show all settings and their defaults."""
    without = dict(zip(GENERAL, (str(default_shelf()), DEFAULT, "second", "counted"), strict=True))
    rows = [(key, without[key], about) for key, about in GENERAL.items()]
    for name, command in settable().items():
        for key, option in options_of(command):
            default = (
                option.default
                if isinstance(option.default, str | int | float) and option.default != ""
                else None
            )
            rows.append(
                (
                    f"{name}.{key}",
                    _shown(default) if default is not None else "-",
                    (option.help or "").split(" Default:")[0],
                )
            )
    if form == "json":
        emit_json(
            {
                "keys": [
                    {"key": k, "default": d if d != "-" else None, "about": a} for k, d, a in rows
                ]
            },
            "setting-keys",
        )
    elif form == "csv":
        emit_csv(["key", "default", "about"], rows)
    else:
        show_table(Table("Settings", ["key", "default", "about"], rows))


def set_command(key: str, value: str) -> None:
    """Set KEY, such as measure.rig, to VALUE, with the checks of the option itself."""
    table, name, option = _place(key)
    stored: Any = value
    if option is not None:
        if option.is_flag:
            stored = {
                "true": True,
                "yes": True,
                "on": True,
                "false": False,
                "no": False,
                "off": False,
            }.get(value.casefold(), value)
        stored = read_value(option, stored, key)
    else:
        stored = checked_general(key, value)
    path = write_setting(table, name, stored)
    echo(f"{key} is now '{_shown(stored)}', kept in {path}")


def unset(key: str) -> None:
    """Set KEY back to its default."""
    values = _set_values()
    if key not in values:
        raise UnknownNameError("setting", key, values, "see jovik config")
    table, dot, name = key.partition(".")
    write_setting(table if dot else None, name if dot else key, None)
    echo(f"{key} is no longer set")


def _set_values() -> dict[str, Any]:
    """Return the settings by ``command.option``, without the password of a server's address."""
    flat: dict[str, Any] = {}
    for key, value in read_settings().items():
        flat |= (
            {f"{key}.{name}": v for name, v in value.items()}
            if isinstance(value, dict)
            else {key: value}
        )
    return {key: _shown(value) if key == SHELF else value for key, value in flat.items()}


def _place(key: str) -> tuple[str | None, str, click.Option | None]:
    """Return the table and the name of a key, and the option that it is of, if it is of any.

    Raises
    ------
    UsageError
        It is no key.
    """

    if key in GENERAL:
        return None, key, None
    table, _, name = key.partition(".")
    commands = settable()
    if table not in commands or not name:
        raise UnknownNameError("setting", key, known_keys(), "see jovik config keys")
    return table, name, option_called(table, commands[table], name, key)


def _shown(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"

    return ", ".join(map(str, value)) if isinstance(value, list) else shown_place(str(value))
