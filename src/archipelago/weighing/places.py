"""The places where the gateways of a brief could be, by what its devices allow."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from archipelago.model.brief import Brief, GatewayPlace
from archipelago.model.parts import Cable, End

Kind = Literal["trunked router", "a router port for each VLAN", "layer 3 switch", "shared pair", "mixed"]
MOST_PLACES = 8
"""So many other places are looked at for the gateways that stand together in a brief."""


@dataclass(frozen=True, slots=True)
class Place:
    """Where the gateways of some VLANs could be: what it is called, what of a brief says so, the cables that it needs
    beside the brief's, and the switches that would have to be layer 3 switches."""

    kind: Kind
    named: str
    gateways: tuple[GatewayPlace, ...]
    cables: tuple[Cable, ...] = ()
    supposed: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Choice:
    """A place for each group of gateways of a brief, in its order; `title` says what is otherwise than the brief has
    it."""

    title: str
    places: tuple[Place, ...]

    @property
    def kind(self) -> Kind:
        """Which kind of place all of them are."""
        kinds = {place.kind for place in self.places}
        return next(iter(kinds)) if len(kinds) == 1 else "mixed"

    def brief(self, asked: Brief) -> Brief:
        """The brief with the gateways there."""
        supposed = {name for place in self.places for name in place.supposed}
        devices = {
            name: replace(need, kind="l3switch", manage=None) if name in supposed else need
            for name, need in asked.devices.items()
        }
        return replace(
            asked,
            devices=devices,
            gateways=tuple(gateway for place in self.places for gateway in place.gateways),
            cables=(*asked.cables, *(cable for place in self.places for cable in place.cables)),
        )


def as_asked(brief: Brief) -> Choice:
    """The places that a brief names itself."""
    return Choice("as the brief says", tuple(_written(gateway) for gateway in brief.gateways))


def _written(gateway: GatewayPlace) -> Place:
    named = " and ".join(_place_text(*place) for place in gateway.places)
    if gateway.shared:
        return Place("shared pair", f"shared by {named}", (gateway,))
    if gateway.port is None:
        return Place("layer 3 switch", named, (gateway,))
    return Place("a router port for each VLAN" if gateway.untagged else "trunked router", named, (gateway,))


def _place_text(device: str, port: str | None) -> str:
    return f"{device}/{port}" if port else device


def other_places(brief: Brief, gateway: GatewayPlace, supposed: Sequence[str]) -> Iterator[Place]:
    """The other places that the gateways of one entry could be at; whether a VLAN gets there, a design says.

    Args:
        brief: the brief.
        gateway: the entry.
        supposed: switches that are to be looked at as if they were layer 3 switches.
    """
    vlans = gateway.vlans
    written = _written(gateway)
    switches = [name for name, need in brief.devices.items() if need.kind == "l3switch"]
    for name in (*switches, *supposed):
        buys = (name,) if name in supposed else ()
        if (written.kind, written.named) != ("layer 3 switch", name):
            yield Place("layer 3 switch", name, (GatewayPlace(vlans, name, None),), supposed=buys)
    joined = {frozenset((cable.a.device, cable.b.device)) for cable in brief.cables}
    for number, one in enumerate(switches):
        for other in switches[number + 1 :]:
            pair = GatewayPlace(vlans, one, None, partners=((other, None),), shared=True)
            if frozenset((one, other)) in joined and set(pair.devices) != set(gateway.devices):
                yield Place("shared pair", f"shared by {one} and {other}", (pair,))
    for cable in brief.cables:
        for end, far in (cable.ends, cable.ends[::-1]):
            kinds = brief.devices[end.device].kind, brief.devices[far.device].kind
            if kinds[0] != "router" or kinds[1] == "router":
                continue
            if (gateway.device, gateway.port, gateway.untagged) != (*end, False):
                yield Place("trunked router", str(end), (GatewayPlace(vlans, *end),))
            if len(vlans) > 1:
                own = _port_each(brief, vlans, cable, end)
                if own is not None:
                    yield own


def _port_each(brief: Brief, vlans: tuple[int, ...], cable: Cable, end: End) -> Place | None:
    """A port of a router for each VLAN, cabled to the switch that one is cabled to; None where ports are missing."""
    far = cable.b if end == cable.a else cable.a
    here, there = (_free(brief, device) for device in (end.device, far.device))
    wanted = len(vlans) - 1
    if len(here) < wanted or len(there) < wanted:
        return None
    free = zip(here[:wanted], there[:wanted], strict=True)
    cables = tuple(Cable(End(end.device, own), End(far.device, port)) for own, port in free)
    ports = (end.port, *(new.a.port for new in cables))
    gateways = tuple(
        GatewayPlace((vlan,), end.device, port, untagged=True) for vlan, port in zip(vlans, ports, strict=True)
    )
    return Place("a router port for each VLAN", f"{len(ports)} ports of {end.device}", gateways, cables)


def _free(brief: Brief, device: str) -> list[str]:
    """The ports of a device that nothing is plugged into, without the first, which hosts that name no port take."""
    used = {end for cable in brief.cables for end in cable.ends}
    used |= {End(host.device, host.port) for host in brief.hosts.values() if host.port}
    used |= {brief.outside.at} if brief.outside is not None else set()
    waiting = sum(host.device == device and host.port is None for host in brief.hosts.values())
    return brief.devices[device].free_ports(used)[waiting:]
