"""Documents as YAML text: sections as blocks, each port, interface, route and host on one line."""

from __future__ import annotations

import json
import re
from typing import Any

_PLAIN = re.compile(r"[A-Za-z0-9/.+-](?:[A-Za-z0-9/._%+~-]|:(?=[^\s,\]}]))*(?: [A-Za-z0-9/._~+-]+)*")
_BLOCKS = {
    (): 1,
    ("devices",): 1,
    ("devices", None): 1,
    ("devices", None, "ports"): 1,
    ("devices", None, "interfaces"): 1,
    ("devices", None, "routes"): 1,
    ("devices", None, "filters"): 1,
    ("devices", None, "filters", None): 1,
    ("devices", None, "filters", None, "rules"): 1,
    ("hosts",): 1,
    ("cables",): 1,
    ("vlans",): 1,
    ("gateways",): 1,
    ("conventions",): 1,
    ("expect",): 1,
    ("traffic",): 1,
    ("policy",): 1,
    ("policy", "rules"): 1,
}
_LONG = 120
"""A line that is longer is written as a block where sections are within."""
_NAMED = {("devices",), ("devices", None, "filters")}
"""Whose parts are named by the document."""


def scalar(text: str) -> str:
    """A text as YAML reads it back unchanged: plain where that is safe, else in double quotes."""
    plain = _PLAIN.fullmatch(text) and not text.startswith(("- ", "-\t")) and text not in ("-", "+")
    return text if plain else json.dumps(text, ensure_ascii=False)


def inline(value: Any) -> str:
    """A value on one line."""
    if isinstance(value, dict):
        return "{" + ", ".join(f"{scalar(str(key))}: {inline(inner_value)}" for key, inner_value in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(inline(entry) for entry in value) + "]"
    return scalar(str(value))


def emit(document: dict[str, Any]) -> str:
    """A whole document as text."""
    lines: list[str] = []
    _block(document, (), 0, lines)
    return "\n".join(lines) + "\n"


def _block(value: Any, path: tuple[str | None, ...], indent: int, lines: list[str]) -> None:
    space = "  " * indent
    if isinstance(value, list):
        lines.extend(f"{space}- {inline(entry)}" for entry in value)
        return
    for key, inner_value in value.items():
        inner = (*path, None if path in _NAMED else key)
        short = inner == ("devices", None) and not any(isinstance(part, (dict, list)) for part in inner_value.values())
        block = inner in _BLOCKS or (len(f"{space}{key}: {inline(inner_value)}") > _LONG and _is_deep(inner_value))
        if inner_value and isinstance(inner_value, (dict, list)) and block and not short:
            lines.append(f"{space}{key}:")
            _block(inner_value, inner, indent + 1, lines)
        else:
            lines.append(f"{space}{scalar(str(key))}: {inline(inner_value)}")


def _is_deep(value: Any) -> bool:
    """Whether a mapping or a list holds sections of its own."""
    if isinstance(value, list):
        return any(isinstance(entry, dict) for entry in value)
    return isinstance(value, dict) and any(isinstance(entry, dict) or _is_deep(entry) for entry in value.values())
