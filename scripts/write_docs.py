"""Write what docs/ says of keys, findings and answers from their declarations. Run: python scripts/write_docs.py"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from archipelago.diagnosis.kinds import KINDS
from archipelago.files.codecs import Context, written
from archipelago.model.key import Holder, Key, Value
from archipelago.model.keys import keys_of
from archipelago.views import schema as _schema
from archipelago.views.answers import faces

DOCS = Path(__file__).resolve().parent.parent / "docs"
START, END = "<!-- keys: made by scripts/write_docs.py -->", "<!-- end of keys -->"
WORDS_OF = (
    (_schema.PAIR, "two texts"),
    (_schema.ROW, "a row of a table by its columns"),
    (_schema.EDITS, "a list of edits: `path` and `value`, or `path` and `remove`"),
    (_schema.PLACE, "a list of keys and places"),
)
"""Shapes that are told in a few words."""
HOLDERS = tuple(Holder)
NETWORK = HOLDERS[: HOLDERS.index(Holder.BRIEF)]
BRIEF = HOLDERS[HOLDERS.index(Holder.BRIEF) : HOLDERS.index(Holder.RECIPE)]
RECIPE = HOLDERS[HOLDERS.index(Holder.RECIPE) :]


def default_text(key: Key) -> str:
    """What stands for a key that is not written, as the tables show it."""
    if key.required:
        return "must be written"
    if key.default in (None, "", (), {}, False) or key.value in (Value.NAMED, Value.LIST, Value.SECTION):
        return ""
    if isinstance(key.default, tuple):
        return ", ".join(written(key.value, one, Context()) for one in key.default)
    return written(key.value, key.default, Context())


def key_tables() -> Iterator[str]:
    """A table for each part of the documents."""
    for title, holders in (("Network", NETWORK), ("Brief", BRIEF), ("Recipe", RECIPE)):
        for holder in holders:
            yield f"### {title}: {holder}" if holder != holders[0] else f"### {title}"
            yield ""
            yield "| key | value | not written | about |"
            yield "| --- | --- | --- | --- |"
            for key in keys_of(holder):
                value = f"{key.value}, or a list" if key.many else str(key.value)
                yield f"| `{key.name}` | {value} | {default_text(key)} | {key.about} |"
            yield ""


def documents_page(before: str) -> str:
    """The page about the documents with its tables made anew."""
    head, _, rest = before.partition(START)
    _, _, tail = rest.partition(END)
    return f"{head}{START}\n\n" + "\n".join(key_tables()) + END + tail


def findings_page() -> str:
    """The page about findings, from the catalogue."""
    lines = [
        "# Every kind of finding",
        "",
        "Printed from the catalogue (`diagnosis/catalogue.py`) by `python scripts/write_docs.py`. The same mistake",
        "has one name wherever it is found: `audit`, `reach`, `matrix`, an expectation. An error breaks traffic, a",
        "risk may or does harm unseen, a note is worth knowing.",
        "",
        "| kind | severity | what it is | what it breaks | mended by edits |",
        "| --- | --- | --- | --- | --- |",
    ]
    for kind in KINDS.values():
        breaks = kind.breaks.replace("{", "*").replace("}", "*")
        lines.append(f"| `{kind.name}` | {kind.severity} | {kind.about} | {breaks} | {kind.mended} |")
    return "\n".join(lines) + "\n"


def answers_page() -> str:
    """The page about what `--json` prints, from the shapes of the answers."""
    lines = [
        "# What `--json` prints",
        "",
        "Printed from the shapes of the answers (`views/`) by `python scripts/write_docs.py`. `schema VERB`",
        "is the JSON Schema of what a verb answers, `archipelago.schema(VERB)` the same in Python; both are closed: an",
        "answer has every key, and no other. `answer.values()` and `archipelago.to_json(answer)` give the same values.",
        "",
        "Keys are lower case, words apart by underscores, those of the Python attributes. They may be added to (a",
        "schema then says so), not renamed while the number in `format` stays. Addresses, prefixes and cables are",
        "texts, counts whole numbers, times seconds and rates bits per second unless said otherwise. What one target",
        "or one kind of probe answers has the same keys as several: the first is the answer, `others` has the rest.",
        "",
    ]
    for face in faces():
        lines += [f"## `{face.format}`, of `{face.verb}`", ""]
        keys = face.shape.said.get("properties", {})
        lines += list(_keys(keys)) if keys else [f"- by the name of each host: {_what(face.shape.said)}"]
        lines.append("")
    return "\n".join(lines)


def _keys(properties: dict[str, Any], around: Sequence[dict[str, Any]] = ()) -> Iterator[str]:
    """A line for each key, those of what it holds below it; the keys of an answer in an answer are told once."""
    for name, said in properties.items():
        inner = _inner(said)
        again = any(len(inner) > 4 and set(inner) <= set(other) for other in (properties, *around))
        yield f"{'  ' * len(around)}- `{name}`: {_what(said)}{'; with the same keys' * again}"
        if not again:
            yield from _keys(inner, (properties, *around))


def _inner(said: dict[str, Any]) -> dict[str, Any]:
    """The keys of what a value holds, whether it is a list of it, or may be null."""
    if _in_words(said):
        return {}
    for one in said.get("anyOf", ()):
        if one != {"type": "null"}:
            return _inner(one)
    held = said.get("items", said)
    if _in_words(held):
        return {}
    more = held.get("additionalProperties")
    return held.get("properties", {}) or (_inner(more) if isinstance(more, dict) else {})


def _in_words(said: dict[str, Any]) -> str:
    """The few words that a shape is told in; empty where it is none of those."""
    return next((words for shape, words in WORDS_OF if _bare(said) == _bare(dict(shape.said))), "")


def _bare(said: dict[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in said.items() if key != "description"}


def _what(said: dict[str, Any]) -> str:
    about = said.get("description", "")
    return f"{_kind(said)}{'; ' * bool(about)}{about}"


def _kind(said: dict[str, Any]) -> str:
    if _in_words(said):
        return _in_words(said)
    if "anyOf" in said:
        return " or ".join(_kind(one) for one in said["anyOf"])
    if "enum" in said:
        return " or ".join(f"`{one}`" for one in said["enum"])
    if said.get("type") == "array":
        return f"a list of: {_kind(said['items'])}"
    if said.get("type") == "object":
        more = said.get("additionalProperties")
        return f"by name: {_kind(more)}" if isinstance(more, dict) and not said.get("properties") else "an object"
    words = {"string": "text", "integer": "a whole number", "number": "a number", "boolean": "true or false"}
    return words.get(said.get("type", ""), "null" if said.get("type") == "null" else "a value")


def main() -> None:
    page = DOCS / "documents.md"
    page.write_text(documents_page(page.read_text(encoding="utf-8")), encoding="utf-8")
    (DOCS / "findings.md").write_text(findings_page(), encoding="utf-8")
    (DOCS / "json.md").write_text(answers_page(), encoding="utf-8")


if __name__ == "__main__":
    main()
