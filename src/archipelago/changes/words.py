"""How things of a network are called where something is said about a change of them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from archipelago.files.write import part_text, value_text
from archipelago.model.parts import Aggregate, Loopback, Port, Route, Subinterface, VlanInterface

_NOUNS = {
    Port: "port",
    Subinterface: "subinterface",
    VlanInterface: "VLAN interface",
    Aggregate: "aggregate",
    Loopback: "loopback",
}


def called(part: Any) -> str:
    """What a part is, and its name: `VLAN interface crew-gw`."""
    noun = _NOUNS.get(type(part), type(part).__name__.lower())
    return f"{noun} {part.name}"


def in_full(part: Any, vlans: Mapping[str, int]) -> str:
    """A part with all that is written of it: `VLAN interface crew-gw (vlan: crew, address: 10.44.1.1/24)`."""
    text = part_text(part, vlans)
    return f"{called(part)} ({text})" if text else called(part)


def set_to(part: Any, attribute: str, vlans: Mapping[str, int]) -> str:
    """One key of a part, as the part has it: `trunk crew, yard`; `no trunk` where it has none."""
    key, value = value_text(part, attribute, vlans)
    if not value:
        return f"no {key}"
    return key if value in ("yes", "true") else f"{key} {value}"


def route_text(route: Route) -> str:
    """A route: `route 10.44.0.0/16 via 10.44.9.1`."""
    metric = f" metric {route.metric}" if route.metric != 1 else ""
    vrf = f" in vrf {route.vrf}" if route.vrf else ""
    return f"route {route.destination} via {route.next_hop}{metric}{vrf}"


def vlan_text(vlan: int, vlans: Mapping[str, int]) -> str:
    """A VLAN by its name, or by its id."""
    return next((name for name, number in vlans.items() if number == vlan), str(vlan))
