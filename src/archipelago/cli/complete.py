"""Completion in a shell: verbs and options, and the names of the network that is already written."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace, _SubParsersAction
from collections.abc import Callable, Iterator

import argcomplete

Completer = Callable[..., list[str]]
_HOSTS = {"--host", "--from", "--to"}
_ENDS = {"source", "targets"}


def names(top: ArgumentParser) -> None:
    """Answer the shell, where it asks, with names that fit; and end."""
    for parser in _verbs(top):
        for action in parser._actions:
            if action.dest in _ENDS:
                action.completer = _ends  # type: ignore[attr-defined]
            elif action.dest == "devices":
                action.completer = _devices  # type: ignore[attr-defined]
            elif _HOSTS & set(action.option_strings):
                action.completer = _hosts  # type: ignore[attr-defined]
    argcomplete.autocomplete(top)


def _verbs(top: ArgumentParser) -> Iterator[ArgumentParser]:
    for action in top._actions:
        if isinstance(action, _SubParsersAction):
            yield from action.choices.values()


def _named(words: Namespace, section: str) -> list[str]:
    """The names of a section of the network that is named already; none where it cannot be read."""
    from archipelago.api.reading import read_network
    from archipelago.errors import ArchipelagoError

    try:
        return list(getattr(read_network(words.network), section))
    except (ArchipelagoError, AttributeError, OSError):
        return []


def _hosts(parsed_args: Namespace, **_: object) -> list[str]:
    return _named(parsed_args, "hosts")


def _devices(parsed_args: Namespace, **_: object) -> list[str]:
    return [*_named(parsed_args, "devices"), *_named(parsed_args, "hosts")]


def _ends(parsed_args: Namespace, **_: object) -> list[str]:
    return [*_devices(parsed_args), "outside"]
