"""Edits applied to a document's text: only what changes is touched; comments and order stay."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import yaml

from archipelago.files.emit import inline, scalar
from archipelago.model.finding import REMOVE, Edit
from archipelago.model.parts import Path


def apply(text: str, edits: Iterable[Edit]) -> str:
    """The text with the edits made, one after another.

    Args:
        text: a document that reads without errors.
        edits: what to change. Mappings that a path leads through are made where they are missing. The removal of a
            list entry waits for the last, from the highest place down, so that places stay what they were.
    """
    later: list[Edit] = []
    done: list[Edit] = []
    for edit in edits:
        if edit in done:
            continue
        done.append(edit)
        if edit.value is REMOVE and isinstance(edit.path[-1], int):
            later.append(edit)
        else:
            text = _apply(text, edit)
    for edit in sorted(later, key=lambda removal: int(removal.path[-1]), reverse=True):
        text = _apply(text, edit)
    return text


def _apply(text: str, edit: Edit) -> str:
    root = yaml.compose(text, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader))
    path = edit.path
    node, depth = root, 0
    while depth < len(path):
        child = _child(node, path[depth])
        if child is None:
            break
        node, depth = child, depth + 1
    if edit.value is REMOVE:
        return _remove(text, root, path) if depth == len(path) else text
    if depth == len(path):
        return _replace(text, node, edit.value)
    value = edit.value
    for part in reversed(path[depth + 1 :]):
        value = [value] if part == "+" else {str(part): value}
    return _insert(text, node, path[depth], value)


def _child(node: Any, part: str | int) -> Any:
    if isinstance(node, yaml.MappingNode):
        return next((value for key, value in node.value if key.value == part), None)
    if isinstance(node, yaml.SequenceNode) and isinstance(part, int) and part < len(node.value):
        return node.value[part]
    return None


def _span(node: Any) -> tuple[int, int]:
    return node.start_mark.index, node.end_mark.index


def _replace(text: str, node: Any, value: Any) -> str:
    start, end = _span(node)
    if isinstance(node, yaml.CollectionNode) and not node.flow_style:
        end = start + len(text[start:end].rstrip())
    lead = " " if start == end and start and text[start - 1] == ":" else ""
    return text[:start] + lead + inline(value) + text[end:]


def _insert(text: str, node: Any, part: str | int, value: Any) -> str:
    """Put a new key into a mapping, or a new entry into a list (which a single value becomes)."""
    if part == "+":
        if isinstance(node, yaml.ScalarNode):
            return _replace(text, node, [*([node.value] if node.value else []), value])
        return _into(text, node, inline(value), "- ")
    if isinstance(node, yaml.ScalarNode):
        return _replace(text, node, {str(part): value})
    return _into(text, node, f"{scalar(str(part))}: {inline(value)}", "")


def _into(text: str, node: Any, entry: str, bullet: str) -> str:
    start, end = _span(node)
    if node.flow_style:
        inner = text[start + 1 : end - 1].rstrip()
        comma = ", " if node.value and not inner.endswith(",") else " " if node.value else ""
        cut = start + 1 + len(inner)
        return text[:cut] + comma + entry + text[cut:]
    final = node.value[-1][1] if isinstance(node, yaml.MappingNode) else node.value[-1]
    at = _end_of(text, final)
    line_end = text.find("\n", at)
    line_end = len(text) if line_end < 0 else line_end
    indent = " " * node.start_mark.column
    return text[:line_end] + f"\n{indent}{bullet}{entry}" + text[line_end:]


def _end_of(text: str, node: Any) -> int:
    """Where a value's last character stands; a block ends before the blank lines and comments after it."""
    while isinstance(node, yaml.CollectionNode) and not node.flow_style and node.value:
        node = node.value[-1][1] if isinstance(node, yaml.MappingNode) else node.value[-1]
    return int(node.end_mark.index)


def _remove(text: str, root: Any, path: Path) -> str:
    holder = root
    for part in path[:-1]:
        holder = _child(holder, part)
    entries: Sequence[Any] = holder.value
    if isinstance(holder, yaml.MappingNode):
        index = next(i for i, (key, _) in enumerate(entries) if key.value == path[-1])
        starts = [key.start_mark.index for key, _ in entries]
        value = entries[index][1]
    else:
        index = int(path[-1])
        starts = [entry.start_mark.index for entry in entries]
        value = entries[index]
    start, end = starts[index], _end_of(text, value)
    if len(entries) == 1:
        first, last = _span(holder)
        empty = "{}" if isinstance(holder, yaml.MappingNode) else "[]"
        if not holder.flow_style:
            last = end
        return text[:first] + empty + text[last:]
    if holder.flow_style:
        if index + 1 < len(entries):
            return text[:start] + text[starts[index + 1] :]
        before = entries[index - 1][1] if isinstance(holder, yaml.MappingNode) else entries[index - 1]
        return text[: _end_of(text, before)] + text[end:]
    line_start = text.rfind("\n", 0, start) + 1
    line_end = text.find("\n", end)
    line_end = len(text) if line_end < 0 else line_end + 1
    return text[:line_start] + text[line_end:]
