"""A user's settings as the defaults of a command's options.

Which may have one, and reading them as the option itself would.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import click

SETTABLE_OPTIONS = (
    "passes",
    "precision",
    "budget",
    "engine",
    "on-error",
    "rig",
    "rig-notes",
    "keep-serial",
    "ask-above",
    "margin",
    "yardstick",
    "by",
    "for",
    "steps",
    "link",
    "load",
    "against",
    "theme",
    "size",
    "over",
    "serials",
    "format",
)
"""Options that may have a user's own default, listed one by one.

Nothing that gives a drive up, answers a question or says which drive a result is of may come from a
file that was written long ago.
"""
WHY_NOT = {
    "destroy": "a drive is given up by its serial, each time anew",
    "content-worthless": "the content of a drive is checked each time",
    "yes": "a question is asked each time",
    "drive": "a result must not land on a drive that nobody named",
    "sample": "a result must not land on a sample that nobody named",
    "shelf": "it is the setting 'shelf', of every command",
    "out": "a file needs a name each time",
}


def long_name(option: click.Option) -> str:
    """Return the name of an option: ``rig`` for ``--rig``."""
    return next(o for o in option.opts if o.startswith("--")).removeprefix("--")


def options_of(command: click.Command) -> Iterator[tuple[str, click.Option]]:
    """Yield every option of a command, or of its group, that may have a default.

    By its long name.
    """
    members = command.commands.values() if isinstance(command, click.Group) else []
    options: dict[str, click.Option] = {}
    for one in [command, *members]:
        for param in one.params:
            if isinstance(param, click.Option) and long_name(param) in SETTABLE_OPTIONS:
                options.setdefault(long_name(param), param)
    yield from options.items()


def read_value(option: click.Option, value: Any, where: str) -> Any:
    """Return a setting as the option takes it.

    Raises
    ------
    UsageError
        The option does not take it.
    """
    from jovik.base.errors import UsageError

    if option.is_flag:
        if not isinstance(value, bool):
            raise UsageError(f"{where}: {long_name(option)} is true or false, not {value!r}")
        return value
    given = value if option.multiple and isinstance(value, list) else [value]
    if any(isinstance(v, dict | list | bool) for v in given):
        raise UsageError(
            f"{where}: {long_name(option)} cannot be {value!r}",
            f"write it in quotes, as behind --{long_name(option)}",
        )
    texts = [str(v) for v in given]
    try:
        for text in texts:
            option.type.convert(text, option, None)
    except click.BadParameter as error:
        raise UsageError(
            f"{where}: {long_name(option)}: {error.message}", "see jovik config keys"
        ) from None
    return texts if option.multiple else texts[0]


def default_map(name: str, command: click.Command, section: Mapping[str, Any]) -> dict[str, Any]:
    """Return a command's settings by the names of its parameters, as Click takes them.

    For a group those of each of its commands.

    Raises
    ------
    UsageError
        A setting is none, or not one that the option takes.
    """
    from jovik.base.settings import line_of_setting

    defaults: dict[str, Any] = {}
    for key, value in section.items():
        where = line_of_setting(name, key)
        option = option_called(name, command, key, where)
        assert option.name is not None
        defaults[option.name] = read_value(option, value, where)
    if isinstance(command, click.Group):
        return {member: defaults for member in command.commands}
    return defaults


def option_called(name: str, command: click.Command, key: str, where: str) -> click.Option:
    """Return the option of a command that a setting is of.

    Raises
    ------
    UsageError
        There is none of that name, or it has no default.
    """
    from jovik.base.errors import UnknownNameError, UsageError

    known = dict(options_of(command))
    if key in known:
        return known[key]
    if (
        any(isinstance(p, click.Option) and long_name(p) == key for p in command.params)
        or key in WHY_NOT
    ):
        raise UsageError(
            f"{where}: '{key}' has no default of your own: {WHY_NOT.get(key, 'it is for once')}",
            "see jovik config keys",
        )
    error = UnknownNameError(f"option of jovik {name}", key, known)
    raise UsageError(f"{where}: {error.message}", error.hint)


def settable() -> dict[str, click.Command]:
    """Return every command that has something to set."""
    from jovik.base.settings import SHELF
    from jovik.cli import COMMANDS, jovik

    ctx = click.Context(jovik)
    options = {
        name: jovik.get_command(ctx, name) for name in COMMANDS if name not in ("config", SHELF)
    }
    return {
        name: command
        for name, command in options.items()
        if command is not None and any(options_of(command))
    }


def known_keys() -> list[str]:
    """Return everything that can be set."""
    from jovik.base.settings import GENERAL

    return [
        *GENERAL,
        *(
            f"{name}.{key}"
            for name, command in settable().items()
            for key, _ in options_of(command)
        ),
    ]
