"""How the routing devices meet: routed links, transit VLANs where only switches lie between, loopbacks, the outside."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.design.draft import Draft, address_in, link_name
from archipelago.design.wiring import Wiring, carry_vlan, routes
from archipelago.model.parts import End, Loopback, OutsidePort, Port, Subinterface, VlanInterface

LOOPBACK = "self"
"""How the loopback interface of a device is called."""


@dataclass(frozen=True, slots=True)
class Adjacency:
    """Two routing devices on one small subnet: this device, the other, and the other's addresses there."""

    device: str
    other: str
    via: tuple[Address, ...]


@dataclass(frozen=True, slots=True)
class Transit:
    """A VLAN that lets routing devices meet over switches; each end is a device and, on a router, its port. `sharing`
    are those of them that share an address there."""

    name: str
    vlan: int
    ends: tuple[tuple[str, str | None], ...]
    sharing: tuple[str, ...] = ()


def routing_devices(draft: Draft) -> list[str]:
    return [name for name in draft.brief.devices if routes(draft, name)]


def transits(draft: Draft, wiring: Wiring) -> list[Transit]:
    """Join the routing devices that no routed link joins by a VLAN of their own, where switches lie between them."""
    brief = draft.brief
    root = {name: name for name in routing_devices(draft)}

    def find(name: str) -> str:
        while root[name] != name:
            name = root[name]
        return name

    for cable in wiring.routed:
        root[find(cable.a.device)] = find(cable.b.device)
    pairs = list(dict.fromkeys(wiring.sharing.values()))
    partners = {name: pair for pair in reversed(pairs) for name in pair}
    for pair in pairs:
        for name in pair[1:]:
            root[find(name)] = find(pair[0])
    ends: dict[str, list[tuple[str, str | None, str]]] = {}
    whole = {End(gateway.device, gateway.port) for gateway in brief.gateways if gateway.untagged and gateway.port}
    zone = _zones(draft, wiring)
    for name in root:
        if name in zone:
            ends.setdefault(zone[name], []).append((name, None, name))
    for cable in brief.cables:
        for end, far in ((cable.a, cable.b), (cable.b, cable.a)):
            switched = far.device in zone and cable not in wiring.routed
            if brief.devices[end.device].kind == "router" and switched and end not in whole and not cable.off:
                ends.setdefault(zone[far.device], []).append((end.device, end.port, far.device))
    links: list[Transit] = []
    used = {vlan.id for vlan in brief.vlans.values()}
    for segment in ends.values():
        first = segment[0]
        for other in segment[1:]:
            if find(other[0]) == find(first[0]):
                continue
            root[find(other[0])] = find(first[0])
            pair = partners.get(first[0], ())
            joining: list[tuple[str, str | None, str]] = [*((name, None, name) for name in pair)] or [first]
            if other[0] in partners:
                pair, joining = partners[other[0]], [(name, None, name) for name in partners[other[0]]]
                other = first
            name, number = _named(draft, len(links) + 1, used)
            links.append(Transit(name, number, (*(one[:2] for one in joining), other[:2]), pair))
            wiring.entrance[number] = joining[0][2]
            carry_vlan(draft, wiring, number, [one[2] for one in (*joining[1:], other)])
            for device, port, _ in (first, other):
                for cable in brief.cables:
                    if port and End(device, port) in (cable.a, cable.b):
                        wiring.carried.setdefault(cable, set()).add(number)
            between = " and ".join((*(one[0] for one in joining), other[0]))
            draft.decide(name, f"VLAN {number} between {between}", "only switches lie between them")
    for pair in pairs:
        if not _leads_elsewhere(draft, pair):
            continue
        if not any(set(pair) <= {device for device, _ in link.ends} for link in links):
            links += _among(draft, wiring, pair, links, used)
    return links


def _among(
    draft: Draft, wiring: Wiring, pair: tuple[str, ...], links: Sequence[Transit], used: set[int]
) -> Iterator[Transit]:
    """The VLAN by which those that share gateways send to each other."""
    apart = [name for name in pair[1:] if wiring.segment.get(name) != wiring.segment.get(pair[0])]
    if apart:
        draft.reasons.append(
            f"{apart[0]} is to share gateways with {pair[0]}, and no cables over switches join them; "
            "add a cable between them"
        )
        return
    name, number = _named(draft, len(links) + 1, used)
    leading = tuple(device for device in pair if _leads_on(device, pair, wiring, links))
    shared = leading if 1 < len(leading) < len(pair) else ()  # for those who have no way on of their own
    wiring.entrance[number] = pair[0]
    carry_vlan(draft, wiring, number, list(pair[1:]))
    draft.decide(name, f"VLAN {number} between {' and '.join(pair)}", "each goes by the other once its own way is cut")
    yield Transit(name, number, tuple((device, None) for device in pair), shared)


def _leads_elsewhere(draft: Draft, pair: tuple[str, ...]) -> bool:
    """Whether there is anything that those who share gateways do not all have themselves: else none of them ever sends
    by another."""
    brief = draft.brief
    beyond = brief.outside is not None or bool(set(routing_devices(draft)).difference(pair))
    return beyond or brief.conventions.loopbacks or any(set(pair).difference(one.devices) for one in brief.gateways)


def _leads_on(device: str, pair: Sequence[str], wiring: Wiring, links: Sequence[Transit]) -> bool:
    """Whether one of those that share gateways has a link of its own to a routing device that is none of them."""
    over_cables = ({end.device for end in cable.ends} for cable in wiring.routed)
    over_switches = ({name for name, _ in link.ends} for link in links)
    return any(device in ends and ends - set(pair) for ends in (*over_cables, *over_switches))


def _named(draft: Draft, count: int, used: set[int]) -> tuple[str, int]:
    """What a transit VLAN is called, and its id."""
    name = f"transit-{count}"
    number = _kept_id(draft, name) or next(vlan_id for vlan_id in range(4094, 1, -1) if vlan_id not in used)
    used.add(number)
    return name, number


def _zones(draft: Draft, wiring: Wiring) -> dict[str, str]:
    """The parts of the switched infrastructure that hold together without the routed links."""
    zone = {name: name for name in wiring.segment}

    def find(name: str) -> str:
        while zone[name] != name:
            name = zone[name]
        return name

    routed = set(wiring.routed)
    for name, above in wiring.parent.items():
        if above is not None and above[1] not in routed:
            zone[find(name)] = find(above[0])
    return {name: find(name) for name in zone}


def _kept_id(draft: Draft, name: str) -> int | None:
    return draft.old.vlans.get(name) if draft.old else None


def connect(draft: Draft, wiring: Wiring, joined: list[Transit]) -> list[Adjacency]:
    """Give both ends of every link their addresses."""
    adjacencies: list[Adjacency] = []
    for cable in wiring.routed:
        subnets = draft.subnets(link_name(cable))
        sides = [tuple(address_in(subnet, offset) for subnet in subnets) for offset in (0, 1)]
        if _was_swapped(draft, cable.a, sides[1]):
            sides.reverse()
        for end, address in ((cable.a, sides[0]), (cable.b, sides[1])):
            draft.set_port(end, Port(end.port, addresses=address))
        texts = " and ".join(str(subnet.prefix) for subnet in subnets)
        draft.decide(str(cable), f"routed link {texts}", "both ends route and no VLAN has to cross it")
        adjacencies += _both(cable.a.device, cable.b.device, sides)
    for transit in joined:
        adjacencies += _meet(draft, transit)
    for device in routing_devices(draft):
        own = draft.subnets(f"loopback {device}")
        if own:
            draft.interfaces[device][LOOPBACK] = Loopback(LOOPBACK, tuple(address_in(address, 0) for address in own))
    return adjacencies


def _meet(draft: Draft, transit: Transit) -> list[Adjacency]:
    """The ends of a transit VLAN; where some of them share an address there, it is the first, and the others send to
    it."""
    subnets = draft.subnets(transit.name)
    first = 1 if transit.sharing else 0
    shared = tuple(address_in(subnet, 0).address for subnet in subnets)
    sides: dict[str, tuple[InterfaceAddress, ...]] = {}
    for number, (device, port) in enumerate(transit.ends, first):
        sides[device] = address = tuple(address_in(subnet, number) for subnet in subnets)
        if port is None:
            draft.interfaces[device][transit.name] = VlanInterface(transit.name, transit.vlan, address)
        else:
            label = f"{port}.{transit.vlan}"
            draft.interfaces[device][label] = Subinterface(label, port, transit.vlan, False, address)
    adjacencies = []
    for device in sides:
        for other, addresses in sides.items():
            if other != device:
                outer = other in transit.sharing and device not in transit.sharing
                via = shared if outer else tuple(address.address for address in addresses)
                adjacencies.append(Adjacency(device, other, via))
    return adjacencies


def _was_swapped(draft: Draft, end: End, other: tuple[InterfaceAddress, ...]) -> bool:
    """Whether the old network has the ends of a link the other way round."""
    if draft.old is None or end.device not in draft.old.devices:
        return False
    port = draft.old.devices[end.device].ports.get(end.port)
    return port is not None and any(address in other for address in port.addresses)


def _both(a: str, b: str, sides: list[tuple[InterfaceAddress, ...]]) -> list[Adjacency]:
    first, second = (tuple(address.address for address in side) for side in sides)
    return [Adjacency(a, b, second), Adjacency(b, a, first)]


def _insides(draft: Draft) -> tuple[Prefix, ...]:
    """What is translated on its way out: the IPv4 space, and subnets beside it."""
    spaces = [space for space in draft.brief.space if space.version == 4]
    subnets = [allotment.prefix for allotment in draft.allotments.values() if allotment.prefix.version == 4]
    return (*spaces, *(subnet for subnet in subnets if not any(space.covers(subnet) for space in spaces)))


def ports_outside(draft: Draft) -> tuple[OutsidePort, ...] | None:
    """What is said of the upstream: where addresses are translated, that it has ways back to IPv6 only."""
    outside = draft.brief.outside
    if outside is None or not outside.source_nat:
        return None
    spaces = tuple(space for space in draft.brief.space if space.version == 6)
    return (OutsidePort(outside.at, spaces or "none"),)


def leave(draft: Draft) -> None:
    """Write the port towards the outside, and what its owner must route back."""
    outside = draft.brief.outside
    if outside is None:
        return
    end = outside.at
    if not routes(draft, end.device):
        draft.reasons.append(
            f"the outside is at {end}, but {end.device} does not route; place it at a router or l3switch"
        )
        return
    translated = _insides(draft) if outside.source_nat else ()
    draft.set_port(end, Port(end.port, addresses=outside.addresses, source_nat=translated))
    for hop in outside.next_hop:
        if not any(address.prefix.holds(hop.address) for address in outside.addresses):
            draft.reasons.append(f"the outside's next hop {hop} is in no subnet of {end}; write an 'address' beside it")
        for address in outside.addresses:
            if address.version == hop.address.version and address.prefix.holds(hop.address):
                for space in draft.brief.space:
                    if space.version == address.version and not (translated and space.version == 4):
                        draft.requests.append(f"ask the owner of {hop} for a route to {space} via {address.address}")
    if translated:
        draft.decide(f"translation at {end}", ", ".join(map(str, translated)), "the upstream needs no way back to them")
    draft.decide(
        "outside", f"at {end}, next hop {', '.join(str(hop) for hop in outside.next_hop)}", "written in the brief"
    )
