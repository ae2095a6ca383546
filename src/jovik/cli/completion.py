"""Suggestions of the shell for a half-typed word.

Drives of the shelf, plans, loads, targets, words of a phrase.

If anything fails while the user presses the Tab key, nothing is offered or printed.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

import click
from click.shell_completion import CompletionItem

from jovik.base.shipped import shipped_names, shipped_path
from jovik.base.vocabulary import CLASS_PREFIX, ORDERS, SELECTION_KEYS

Context = click.Context
Parameter = click.Parameter


def _offer(words: Iterable[str], begun: str) -> list[CompletionItem]:
    """Return the names with this beginning. The shell or `shell_completion` quotes them.

    A quote that was begun already is not part of the name.
    """
    wanted = begun.lstrip("'\"").casefold()
    return [CompletionItem(w) for w in words if w.casefold().startswith(wanted)]


def _on_shelf(ctx: Context, sort: str) -> list[str]:
    """Return names from the shelf, or none if it cannot be read.

    Directly, because opening a shelf takes longer than a user waits after pressing the Tab key.
    """
    from jovik.base.settings import where_from
    from jovik.base.terminal_text import strip_control
    from jovik.shelf.names import names

    try:
        found = names(where_from(ctx.params.get("shelf_at")), sort)
        # A name with something in it that a terminal would obey is left to be typed.
        return [n for n in found if n and strip_control(n) == n]
    except Exception:  # the driver's own, the file system's; nothing is offered then
        return []


def drives(ctx: Context, _: Parameter, begun: str) -> list[CompletionItem]:
    """Return drives on the shelf."""
    return _offer(_on_shelf(ctx, "drive"), begun)


def run_names(ctx: Context, _: Parameter, begun: str) -> list[CompletionItem]:
    """Return runs on the shelf, the newest first."""
    newest = _on_shelf(ctx, "run")
    return _offer([*newest, "last"] if newest else [], begun)


def yardsticks(ctx: Context, of: Parameter, begun: str) -> list[CompletionItem]:
    """Drives, and classes of drives."""
    classes = [f"{CLASS_PREFIX}{c}" for c in shipped_names("class")]
    return [*drives(ctx, of, begun), *_offer(classes, begun)]


def orders(ctx: Context, of: Parameter, begun: str) -> list[CompletionItem]:
    """Return the orders of a ranking: a word, or the phrase of a step."""
    return [*_offer(ORDERS, begun), *(phrases(ctx, of, begun) if begun else [])]


def selections(ctx: Context, of: Parameter, begun: str) -> list[CompletionItem]:
    """Return drives and runs, which a selection begins with, and behind an @ its conditions."""
    name, at, part = begun.rpartition("@")
    if not at:
        return [*drives(ctx, of, begun), *run_names(ctx, of, begun)]
    key, equals, _ = part.partition("=")
    if not equals:
        return _offer([f"{name}@{k}=" for k in SELECTION_KEYS], begun)
    return _offer(
        [f"{name}@{key}={x}" for x in _on_shelf(ctx, key)] if key in SELECTION_KEYS else [], begun
    )


MODEL_CHANGES = (
    "link=USB 480 Mb/s",
    "link=SATA 3 Gb/s",
    "link=PCIe 3.0 x2",
    "firmware=",
    "serial=",
)
"""What a model drive can have otherwise (`jovik.simulator.load_model`)."""


def languages(_: Context, __: Parameter, begun: str) -> list[CompletionItem]:
    """Return the languages of pages."""
    return _offer(sorted(["en", *shipped_names("language")]), begun)


def claimed(_: Context, __: Parameter, begun: str) -> list[CompletionItem]:
    """Return what makers claim most often."""
    return _offer(CLAIMED, begun)


CLAIMED = (
    "sequential read",
    "sequential write",
    "random read 4KiB depth 32",
    "random write 4KiB depth 32",
    "random read 4KiB",
    "random write 4KiB",
)


def plans(_: Context, __: Parameter, begun: str) -> list[CompletionItem]:
    """Plans that ship with Jovik."""
    return _offer(shipped_names("plan"), begun)


def loads(_: Context, __: Parameter, begun: str) -> list[CompletionItem]:
    """Return loads that ship with Jovik."""
    return _offer(shipped_names("load"), begun)


def settings(_: Context, __: Parameter, begun: str) -> list[CompletionItem]:
    """Return keys that can be set."""
    from jovik.cli.settings_defaults import known_keys

    return _offer(known_keys(), begun)


def targets(_: Context, __: Parameter, begun: str) -> list[CompletionItem]:
    """Return model drives. The shell itself completes folders and devices."""
    model, at, _changes = begun.partition("@")
    if at and model.startswith("model:"):
        done = begun.rpartition("@")[0]
        return _offer([f"{done}@{c}" for c in MODEL_CHANGES], begun)
    models = _offer([f"model:{n}" for n in shipped_names("model")], begun)
    return models or [CompletionItem(begun, type="file")]


def targets_and_phrases(ctx: Context, of: Parameter, begun: str) -> list[CompletionItem]:
    """Return a target first, after it further targets and steps."""
    if not ctx.params.get("words"):
        return targets(ctx, of, begun)
    return [*phrases(ctx, of, begun), *targets(ctx, of, begun)]


def recordings(ctx: Context, _: Parameter, begun: str) -> list[CompletionItem]:
    """Return recordings on the shelf and shipped ones. The shell itself completes files."""
    offered = _offer([*_on_shelf(ctx, "recording"), *shipped_names("recording")], begun)
    return offered or [CompletionItem(begun, type="file")]


def loads_and_recordings(ctx: Context, of: Parameter, begun: str) -> list[CompletionItem]:
    """Return the loads and recordings that a ranking can use."""
    return [*loads(ctx, of, begun), *(x for x in recordings(ctx, of, begun) if x.type == "plain")]


def phrases(_: Context, __: Parameter, begun: str) -> list[CompletionItem]:
    """Offer steps of the plans that ship with Jovik."""
    import tomllib

    offered = dict.fromkeys(f'replay "{n}"' for n in shipped_names("recording"))
    for name in shipped_names("plan"):
        plan = tomllib.loads(shipped_path("plan", name).read_text(encoding="utf-8"))
        offered |= dict.fromkeys(_phrases_in(plan["steps"]))
    return _offer(offered, begun)


def _phrases_in(steps: list[str | dict[str, Any]]) -> Iterator[str]:
    """Yield the phrases of a plan's steps, as the file has them."""
    for step in steps:
        if isinstance(step, str):
            yield step
        elif "phrase" in step:
            yield step["phrase"]
        else:
            yield from _phrases_in(step["steps"])
