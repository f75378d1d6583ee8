"""Every answer that there is, by the verb that gives it."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from pkgutil import iter_modules
from typing import Any

import archipelago.views
from archipelago.files.schema import DRAFT
from archipelago.views.face import Face
from archipelago.views.schema import document


@cache
def faces() -> tuple[Face, ...]:
    """The faces of all answers: each that a module of views has."""
    modules = [import_module(f"archipelago.views.{one.name}") for one in iter_modules(archipelago.views.__path__)]
    found = {id(face): face for module in modules for face in vars(module).values() if isinstance(face, Face)}
    return tuple(sorted(found.values(), key=lambda face: (face.verb, face.name)))


def verbs() -> tuple[str, ...]:
    """The verbs that answer in JSON."""
    return tuple(dict.fromkeys(face.verb for face in faces()))


def schema(verb: str) -> dict[str, Any]:
    """The JSON Schema of what a verb answers; one of several where its options ask for other answers.

    Raises:
        KeyError: there is no such verb.
    """
    found = [document(face.format, face.shape) for face in faces() if face.verb == verb]
    if not found:
        raise KeyError(verb)
    title = f"What archipelago {verb} --json prints"
    return {"$schema": DRAFT, "title": title, **(found[0] if len(found) == 1 else {"oneOf": found})}
