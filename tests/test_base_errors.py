"""Errors on their way from one process to another."""

from __future__ import annotations

import pickle
from collections.abc import Iterator

import pytest

from jovik.base import errors
from jovik.base.errors import JovikError, PhraseError, UnknownNameError


def kinds(top: type[JovikError] = JovikError) -> Iterator[type[JovikError]]:
    yield top
    for below in top.__subclasses__():
        yield from kinds(below)


@pytest.mark.parametrize("kind", sorted(set(kinds()), key=lambda k: k.__name__))
def test_every_error_arrives_as_it_was_sent(kind: type[JovikError]) -> None:
    if issubclass(kind, UnknownNameError):
        sent: JovikError = kind("drive", "Comet", ["Comet 2TB"])
    elif kind is PhraseError:
        sent = errors.PhraseError("read 4KiB", 0, 4, "random or sequential")
    else:
        sent = kind("it is gone", "bring it back")
    arrived = pickle.loads(pickle.dumps(sent))
    assert type(arrived) is kind and str(arrived) == str(sent)
    assert (arrived.message, arrived.hint) == (sent.message, sent.hint)
