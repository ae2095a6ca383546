"""`jovik config`: a person's own defaults."""

from __future__ import annotations

from typing import Any

import click

from jovik.cli.completion import settings
from jovik.cli.echo import echo
from jovik.cli.naming_group import NamingGroup
from jovik.cli.options import format_option
from jovik.cli.settings_defaults import known_keys, option_called, options_of, read_value, settable


@click.group(cls=NamingGroup, invoke_without_command=True)
@click.pass_context
def config(ctx: click.Context) -> None:
    """Set what options are unless given: the shelf, the rig, passes, a margin, a theme.

    What is typed comes before what JOVIK_SHELF says, and that before a setting. The file is TOML;
    JOVIK_CONFIG names another one.

    \b
    jovik config
    jovik config set shelf /srv/lab/shelf.db
    jovik config set measure.rig "bench, rear port"
    jovik config unset measure.rig
    """
    if ctx.invoked_subcommand is None:
        ctx.invoke(show)


@config.command()
@format_option()
def show(form: str = "table") -> None:
    """Show what is set, and in which file."""
    from jovik.base.settings import settings_path
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.tables import Table

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
        echo(f"nothing is set; the file would be {path}")
        echo("  jovik config keys shows what can be set")


@config.command()
@format_option()
def keys(form: str) -> None:
    """Show what can be set, and what it is without."""
    from jovik.base.rate_unit import DEFAULT
    from jovik.base.settings import GENERAL, default_shelf
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.tables import Table

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
        show_table(Table("What can be set", ["key", "default", "about"], rows))


@config.command("set")
@click.argument("key", shell_complete=settings)
@click.argument("value")
def set_command(key: str, value: str) -> None:
    """Set KEY, such as measure.rig, to VALUE; it is checked as the option would check it."""
    from jovik.base.settings import write_setting

    table, name, option = _place(key)
    kept: Any = value
    if option is not None:
        if option.is_flag:
            kept = {
                "true": True,
                "yes": True,
                "on": True,
                "false": False,
                "no": False,
                "off": False,
            }.get(value.casefold(), value)
        kept = read_value(option, kept, key)
    else:
        from jovik.base.settings import checked_general

        kept = checked_general(key, value)
    path = write_setting(table, name, kept)
    echo(f"{key} is now '{_shown(kept)}', kept in {path}")


@config.command()
@click.argument("key", shell_complete=settings)
def unset(key: str) -> None:
    """Take KEY away, so that it is again what it is without."""
    from jovik.base.errors import UnknownNameError
    from jovik.base.settings import write_setting

    there = _set_values()
    if key not in there:
        raise UnknownNameError("setting", key, there, "see jovik config")
    table, dot, name = key.partition(".")
    write_setting(table if dot else None, name if dot else key, None)
    echo(f"{key} is no longer set")


def _set_values() -> dict[str, Any]:
    """What is set, by ``command.option``; the password of a server's address is left out."""
    from jovik.base.settings import SHELF, read_settings

    flat: dict[str, Any] = {}
    for key, value in read_settings().items():
        flat |= (
            {f"{key}.{name}": v for name, v in value.items()}
            if isinstance(value, dict)
            else {key: value}
        )
    return {key: _shown(value) if key == SHELF else value for key, value in flat.items()}


def _place(key: str) -> tuple[str | None, str, click.Option | None]:
    """The table and the name of a key, and the option that it is of, if it is of any.

    Raises
    ------
    UsageError
        It is no key.
    """
    from jovik.base.errors import UnknownNameError
    from jovik.base.settings import GENERAL

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
    from jovik.shelf.sqlite import shown_place

    return ", ".join(map(str, value)) if isinstance(value, list) else shown_place(str(value))
