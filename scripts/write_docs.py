"""Write what docs/ says of keys and findings from their declarations. Run: python scripts/write_docs.py"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from archipelago.diagnosis.kinds import KINDS
from archipelago.files.codecs import Context, written
from archipelago.model.key import Holder, Key, Value
from archipelago.model.keys import keys_of

DOCS = Path(__file__).resolve().parent.parent / "docs"
START, END = "<!-- keys: made by scripts/write_docs.py -->", "<!-- end of keys -->"
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
        lines.append(f"| `{kind.slug}` | {kind.severity} | {kind.about} | {breaks} | {kind.mended} |")
    return "\n".join(lines) + "\n"


def main() -> None:
    page = DOCS / "documents.md"
    page.write_text(documents_page(page.read_text(encoding="utf-8")), encoding="utf-8")
    (DOCS / "findings.md").write_text(findings_page(), encoding="utf-8")


if __name__ == "__main__":
    main()
