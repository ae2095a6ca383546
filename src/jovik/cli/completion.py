"""Suggestions of the shell for a half-typed word.

Drives of the shelf, plans, loads, targets, words of a phrase.

If anything fails while the user presses the Tab key, nothing is offered or printed.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING

import click
from click.shell_completion import CompletionItem

if TYPE_CHECKING:
    from jovik.shelf.store import Shelf

Context = click.Context
Parameter = click.Parameter


def _offer(words: Iterable[str], begun: str) -> list[CompletionItem]:
    """Return the names with this beginning. The shell or `bash_completion` quotes them.

    A quote that was begun already is not part of the name.
    """
    wanted = begun.lstrip("'\"").casefold()
    return [CompletionItem(w) for w in words if w.casefold().startswith(wanted)]


def _of_shelf(ctx: Context, names: Callable[[Shelf], Iterable[str]]) -> list[str]:
    """Return names from the shelf, or none if it cannot be opened."""
    from jovik.base.errors import JovikError
    from jovik.base.terminal_text import strip_control
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    try:
        with Shelf(where_from(ctx.params.get("shelf_at")), touching=False) as shelf:
            # A name with something in it that a terminal would obey is left to be typed.
            return [n for n in names(shelf) if strip_control(n) == n]
    except JovikError:
        return []


def drives(ctx: Context, _: Parameter, begun: str) -> list[CompletionItem]:
    """Return drives on the shelf."""
    return _offer(_of_shelf(ctx, lambda shelf: shelf.sheets.names()), begun)


def run_names(ctx: Context, _: Parameter, begun: str) -> list[CompletionItem]:
    """Return runs on the shelf, the newest first."""
    newest = _of_shelf(ctx, lambda shelf: sorted((r.id for r in shelf.runs.every()), reverse=True))
    return _offer([*newest, "last"] if newest else [], begun)


def yardsticks(ctx: Context, of: Parameter, begun: str) -> list[CompletionItem]:
    """Drives, and classes of drives."""
    from jovik.sheets.drive_class import CLASS_PREFIX, class_names

    return [*drives(ctx, of, begun), *_offer([f"{CLASS_PREFIX}{c}" for c in class_names()], begun)]


def orders(ctx: Context, of: Parameter, begun: str) -> list[CompletionItem]:
    """Return the orders of a ranking: a word, or the phrase of a step."""
    from jovik.queries.ranking import ORDERS

    return [*_offer(ORDERS, begun), *(phrases(ctx, of, begun) if begun else [])]


def selections(ctx: Context, of: Parameter, begun: str) -> list[CompletionItem]:
    """Return drives and runs, which a selection begins with."""
    return [*drives(ctx, of, begun), *run_names(ctx, of, begun)]


def plans(_: Context, __: Parameter, begun: str) -> list[CompletionItem]:
    """Plans that ship with Jovik."""
    from jovik.steps import plan_names

    return _offer(plan_names(), begun)


def loads(_: Context, __: Parameter, begun: str) -> list[CompletionItem]:
    """Return loads that ship with Jovik."""
    from jovik.sheets.load import load_names

    return _offer(load_names(), begun)


def settings(_: Context, __: Parameter, begun: str) -> list[CompletionItem]:
    """Return keys that can be set."""
    from jovik.cli.settings_defaults import known_keys

    return _offer(known_keys(), begun)


def targets(_: Context, __: Parameter, begun: str) -> list[CompletionItem]:
    """Return model drives. The shell itself completes folders and devices."""
    from jovik.simulator import model_names

    models = _offer([f"model:{n}" for n in model_names()], begun)
    return models or [CompletionItem(begun, type="file")]


def targets_and_phrases(ctx: Context, of: Parameter, begun: str) -> list[CompletionItem]:
    """Return a target first, after it further targets and steps."""
    if not ctx.params.get("words"):
        return targets(ctx, of, begun)
    return [*phrases(ctx, of, begun), *targets(ctx, of, begun)]


def recordings(ctx: Context, _: Parameter, begun: str) -> list[CompletionItem]:
    """Return recordings on the shelf and shipped ones. The shell itself completes files."""
    from jovik.steps.replay import recording_names

    names = _of_shelf(ctx, lambda shelf: [r.name for r in shelf.recordings.kept()])
    offered = _offer([*names, *recording_names()], begun)
    return offered or [CompletionItem(begun, type="file")]


def loads_and_recordings(ctx: Context, of: Parameter, begun: str) -> list[CompletionItem]:
    """Return the loads and recordings that a ranking can use."""
    return [*loads(ctx, of, begun), *(x for x in recordings(ctx, of, begun) if x.type == "plain")]


def phrases(_: Context, __: Parameter, begun: str) -> list[CompletionItem]:
    """Offer steps of the plans that ship with Jovik."""
    from jovik.steps import load_plan, plan_names
    from jovik.steps.replay import recording_names

    offered = dict.fromkeys(f'replay "{n}"' for n in recording_names())
    offered |= dict.fromkeys(line.phrase for name in plan_names() for line in load_plan(name).lines)
    return _offer(offered, begun)
