"""Private facts of the reviewer's machine that a page must not contain, such as folders."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import fields, is_dataclass, replace
from pathlib import PurePath
from typing import Any, TypeVar

from jovik.steps import parse
from jovik.steps.copy import CopyStep

T = TypeVar("T")


def folders_of(phrases: Iterable[str]) -> list[str]:
    """Return the user's folders that were copied, as the phrases name them."""
    steps = map(parse, phrases)
    folders = {s.folder for s in steps if isinstance(s, CopyStep) and s.folder is not None}
    # The longest first: one may lie within another.
    return sorted(folders, key=len, reverse=True)


def without_paths(thing: T, folders: Iterable[str]) -> T:
    """Plain data with each folder's path cut down to its last name, in every text of it."""
    named = {f: PurePath(f).name or "a folder" for f in folders}
    if not named:
        return thing
    pattern = re.compile("|".join(f"(?<![\\w/]){re.escape(f)}(?![\\w])" for f in named))
    result: T = _walk(thing, lambda text: pattern.sub(lambda m: named[m[0]], text))
    return result


def without_commands(thing: T) -> T:
    """Return plain data without Jovik's commands, which a reader of a review does not have.

    Of a text whose parts a semicolon parts, only those that name a command go.
    """
    result: T = _walk(thing, _uncommanded)
    return result


def _uncommanded(text: str) -> str:
    text = re.sub(r"(?:,? or)? \(?--[a-z][a-z-]*(?: (?:[a-z]+|\.\.\.))?\)?", "", text)
    if "jovik " not in text:
        return text
    parts = [part for part in re.split(r"(?<=[^;]); |: (?=jovik )", text) if "jovik " not in part]
    return "; ".join(parts)


def _walk(thing: Any, change: Any) -> Any:
    if isinstance(thing, str):
        return change(thing)
    if isinstance(thing, tuple | list):
        return type(thing)(_walk(t, change) for t in thing)
    if isinstance(thing, dict):
        return {key: _walk(value, change) for key, value in thing.items()}
    if is_dataclass(thing) and not isinstance(thing, type):
        changed = {f.name: _walk(getattr(thing, f.name), change) for f in fields(thing) if f.init}
        return replace(thing, **changed)
    return thing
