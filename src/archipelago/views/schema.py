"""What the values of an answer are: shapes, and the JSON Schema that they make."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

KEY = "^[a-z0-9_]+$"
"""Keys are lower case, words apart by underscores."""


class Shape(NamedTuple):
    """What a value is, as JSON Schema says it."""

    said: Mapping[str, Any]

    def __call__(self, about: str) -> Shape:
        """The same with what it is about, in words."""
        return Shape({**self.said, "description": about})


def one_of(*texts: str | bool | int | None) -> Shape:
    """One of some values."""
    return Shape({"enum": list(texts)})


def maybe(shape: Shape) -> Shape:
    """A value, or null."""
    about = {"description": shape.said["description"]} if "description" in shape.said else {}
    return Shape({"anyOf": [dict(shape.said), {"type": "null"}], **about})


def several(shape: Shape) -> Shape:
    """A list."""
    return Shape({"type": "array", "items": dict(shape.said)})


def by_name(shape: Shape) -> Shape:
    """A mapping whose keys are names that people gave."""
    return Shape({"type": "object", "additionalProperties": dict(shape.said)})


def named(shape: Shape) -> Shape:
    """An answer whose keys are names that people gave, beside its `format`."""
    return Shape({"type": "object", "properties": {}, "additionalProperties": dict(shape.said)})


def record(**keys: Shape) -> Shape:
    """An object with just these keys."""
    properties = {name.rstrip("_"): dict(shape.said) for name, shape in keys.items()}
    required = list(properties)
    return Shape({"type": "object", "properties": properties, "required": required, "additionalProperties": False})


def extended(shape: Shape, **keys: Shape) -> Shape:
    """An object with more keys than another."""
    return record(**{name: Shape(said) for name, said in shape.said["properties"].items()}, **keys)


def document(form: str, shape: Shape) -> dict[str, Any]:
    """The JSON Schema of a whole answer: its values, and what it says that it is."""
    properties = {"format": {"const": form}, **shape.said["properties"]}
    return {**shape.said, "properties": properties, "required": list(properties)}


TEXT = Shape({"type": "string"})
NUMBER = Shape({"type": "number"})
COUNT = Shape({"type": "integer"})
FLAG = Shape({"type": "boolean"})
NOTHING = Shape({"type": "null"})
DOCUMENT = Shape({"type": "object"})
PAIR = Shape({"type": "array", "items": {"type": "string"}, "minItems": 2, "maxItems": 2})
ROW = Shape(
    {
        "type": "object",
        "propertyNames": {"pattern": KEY},
        "additionalProperties": {"type": ["string", "number", "boolean", "null"]},
    }
)
"""A row of a table by its columns; a column that is empty in every row is not there."""
PLACE = several(Shape({"type": ["string", "integer"]}))("where in the document it stands")
EDITS = several(
    Shape(
        {
            "type": "object",
            "properties": {"path": dict(PLACE.said), "value": {}, "remove": {"const": True}},
            "required": ["path"],
            "oneOf": [{"required": ["value"]}, {"required": ["remove"]}],
            "additionalProperties": False,
        }
    )
)("changes to the document: a path that ends in + adds to a list, in +N before its entry N")
FINDING_KEYS = {
    "kind": TEXT("the kind of mistake"),
    "severity": one_of("error", "risk", "note"),
    "at": TEXT("the device or host that holds the mistake"),
    "path": PLACE,
    "says": TEXT("what is wrong, one sentence"),
    "breaks": TEXT("what it breaks, one sentence"),
    "mend": TEXT("the one change that mends it, in words"),
    "edits": EDITS,
    "instead": several(record(says=TEXT, edits=EDITS))("other changes, as small, that mend it too"),
    "promises": several(TEXT)("the expectations that are broken by it"),
    "tried": several(TEXT)("the mends that were tried, each with what came of it"),
    "choices": several(record(says=TEXT, edits=EDITS, does=TEXT("what it does beside mending")))(
        "where no mend does only good, those that a person can decide for"
    ),
}
FINDING = record(**FINDING_KEYS)
FINDING_WITH_LINE = record(line=COUNT("the line of the file that it stands on; 0: in no file"), **FINDING_KEYS)
