"""Archipelago: plan the gateways between VLANs, and know which host will reach which before touching a device.

The public calls and the public types, and nothing else; `public` lists them. Each is loaded when somebody asks for it,
so importing the package costs next to nothing. Results are plain frozen data that print well; `to_json` and `to_table`
turn any of them into JSON-ready values or a pandas table.

The examples in their docstrings share one network and one brief, `network` and `brief`: those of
`examples/slipway-network.yaml` and `examples/slipway-brief.yaml`.
"""

from __future__ import annotations

from functools import cache as _cache
from importlib import import_module as _import_module
from pkgutil import get_data as _get_data
from typing import TYPE_CHECKING
from typing import Any as _Any

if TYPE_CHECKING:
    from archipelago.public import *  # noqa: F403

__version__ = "0.1.0"

# Importing a room binds its name here, and two rooms are called as public calls are. They are imported, and so bound,
# first; the names are then free for the calls. Both packages are empty: this loads nothing.
for _room in ("audit", "design"):
    _import_module(f"archipelago.{_room}")
    del globals()[_room]
del TYPE_CHECKING, annotations


@_cache
def _homes() -> dict[str, str]:
    """The module that each public name lives in."""
    text = (_get_data(__name__, "public.py") or b"").decode()
    imports = (line.split() for line in text.splitlines() if line.startswith("from archipelago."))
    return {name: module for _, module, _, name, *_ in imports}


def __getattr__(name: str) -> _Any:
    if name == "__all__":
        return __dir__()
    home = None if name.startswith("_") else _homes().get(name)
    if home is None:
        raise AttributeError(f"module 'archipelago' has no attribute '{name}'")
    member = getattr(_import_module(home), name)
    globals()[name] = member
    return member


def __dir__() -> list[str]:
    return sorted(_homes())
