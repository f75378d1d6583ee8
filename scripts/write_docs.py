"""Write what docs/ says of keys, findings and answers from their declarations. Run: python scripts/write_docs.py"""

from __future__ import annotations

import inspect
import re
from collections.abc import Iterator, Sequence
from importlib import import_module
from pathlib import Path
from textwrap import dedent
from typing import Any

import yaml

import archipelago
from archipelago import read_network
from archipelago.diagnosis.kind import Example, Kind
from archipelago.files.codecs import Context, written
from archipelago.model.finding import REMOVE, SEVERITIES, Edit
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
    """The page about findings, from the kinds and their examples."""
    kinds = sorted(every_kind(), key=lambda kind: (SEVERITIES.index(kind.severity), kind.name))
    lines = [
        "# Every kind of finding",
        "",
        "Made from the kinds, each of which stands beside its rule, by `python scripts/write_docs.py`. A mistake has",
        "one name wherever it is found: `audit`, `reach`, `matrix`, an expectation. An error breaks traffic, a risk",
        "may or does harm unseen, a note is worth knowing.",
        "",
        "What it looks like is shown in one of the networks of [samples](samples/): these lines of it are otherwise",
        "(`~`: not there). Below them stands what `audit` says. A kind without an example is told where a question is",
        "asked: of a packet of a size, an address, a policy.",
        "",
        "| kind | severity | what it is | mended by edits |",
        "| --- | --- | --- | --- |",
    ]
    lines += [f"| [`{kind.name}`](#{kind.name}) | {kind.severity} | {kind.about} | {kind.mended} |" for kind in kinds]
    for kind in kinds:
        lines += ["", f"## {kind.name}", "", f"{kind.severity.capitalize()}: {kind.about}.", ""]
        if kind.example is None:
            lines.append(f"Breaks: {kind.breaks.replace('{', '*').replace('}', '*')}.")
            continue
        shown = next(
            one for one in archipelago.audit(read_network(with_example(kind.example))) if one.kind == kind.name
        )
        name = kind.example.sample
        lines += [f"[{name}](samples/{name}.yaml) with", "", "```yaml", dedent(kind.example.lines).strip(), "```", ""]
        told = {f"{kind.severity} at {shown.at}": shown.says, "breaks": shown.breaks, "mend": shown.mend}
        lines += ["```text", *(f"{word}: {said}" for word, said in told.items()), "```"]
    return "\n".join(lines) + "\n"


def with_example(example: Example) -> str:
    """The text of a sample with the lines of an example laid over it."""
    text = (DOCS / "samples" / f"{example.sample}.yaml").read_text()
    return archipelago.amend(text, list(_edits((), _plain(text), _plain(example.lines))))


def _plain(text: str) -> Any:
    return yaml.load(dedent(text), Loader=yaml.BaseLoader)  # every value is text, as in the documents


def _edits(path: tuple[str, ...], there: Any, lines: Any) -> Iterator[Edit]:
    if isinstance(there, dict) and isinstance(lines, dict):
        for key, value in lines.items():
            yield from _edits((*path, key), there.get(key), value)
    else:
        yield Edit(path, REMOVE if lines == "~" else lines)


def every_kind() -> list[Kind]:
    """Every kind of finding, found where it stands: in the modules that make one, in the order of their names."""
    root = Path(archipelago.__file__).parent
    makers = [file.relative_to(root) for file in sorted(root.rglob("*.py")) if " = Kind(" in file.read_text()]
    modules = [import_module(".".join(("archipelago", *file.with_suffix("").parts))) for file in makers]
    kinds = (kind for module in modules for kind in vars(module).values() if isinstance(kind, Kind))
    return list({kind.name: kind for kind in kinds}.values())


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


def library_page() -> str:
    """The page about the library, from the docstrings of what is public."""
    lines = [
        "# The library",
        "",
        "Made from the docstrings by `python scripts/write_docs.py`; `help(archipelago.reach)` has the rest of each.",
        "Every answer prints as the command does; it has a `headline`, `tables()`, `values()` (those of `--json`) and,",
        "where there is one, a `picture()`; it is true where it says yes: `assert archipelago.audit(network)`.",
        "",
    ]
    public = [name for name in dir(archipelago) if not name.startswith("_")]
    things = {name: getattr(archipelago, name) for name in public}
    calls = [name for name, thing in things.items() if inspect.isfunction(thing)]
    for module in dict.fromkeys(sorted(things[name].__module__ for name in calls)):
        if not module.startswith("archipelago.api."):
            continue
        lines += [f"## {_first(import_module(module))}", ""]
        for name in (one for one in calls if things[one].__module__ == module):
            signature = re.sub(r"(: |-> )'([^']*)'", r"\1\2", str(inspect.signature(things[name])))
            lines += [f"### {name}", "", "```python", f"archipelago.{name}{signature}", "```", ""]
            lines += [*_told(things[name]), ""]
    for title, wanted in (("What calls answer", archipelago.Answer), ("What calls raise", Exception)):
        kinds = {name: one for name, one in things.items() if inspect.isclass(one) and issubclass(one, wanted)}
        lines += [f"## {title}", "", "| type | what it is |", "| --- | --- |"]
        lines += [f"| `{name}` | {_first(one)} |" for name, one in kinds.items()]
        lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def _first(thing: Any) -> str:
    """The first paragraph of a docstring, in one line."""
    return " ".join((inspect.getdoc(thing) or "").partition("\n\n")[0].split())


def _told(call: Any) -> Iterator[str]:
    """What a call does, returns and raises."""
    yield _first(call)
    text = inspect.getdoc(call) or ""
    for part in ("Returns", "Raises"):
        found = re.search(rf"^{part}:\n((?:    .*\n?)+)", text, re.M)
        if found:
            yield ""
            told = dedent(found[1]).strip()
            entries = re.split(r"\n(?!    )", told) if part == "Raises" else [told]
            yield f"{part}: " + "; ".join(" ".join(entry.split()).rstrip(".") for entry in entries) + "."


def main() -> None:
    page = DOCS / "documents.md"
    page.write_text(documents_page(page.read_text(encoding="utf-8")), encoding="utf-8")
    (DOCS / "findings.md").write_text(findings_page(), encoding="utf-8")
    (DOCS / "json.md").write_text(answers_page(), encoding="utf-8")
    (DOCS / "library.md").write_text(library_page(), encoding="utf-8")


if __name__ == "__main__":
    main()
