"""Where filters belong in a network that exists, and the edits that put them there: by the rules of the design."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

from archipelago.addressing.values import Address, Prefix, is_link_local
from archipelago.design.entrances import Entrance
from archipelago.design.filter_lines import Wanted
from archipelago.design.policy import filters_for, ways_to_filter
from archipelago.diagnosis.places import plugged_vlan
from archipelago.files.write import document_of
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.outside import ways_outside
from archipelago.model.ends import OUTSIDE
from archipelago.model.filter_rules import unnamed_filters
from archipelago.model.filters import Filter
from archipelago.model.finding import REMOVE, Edit
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device, End, Host, Path
from archipelago.model.policy import Policy

Place = tuple[str, str]
"""A device and one of its interfaces."""
Side = tuple[str, str, bool]
"""A place, and whether what comes in by it is meant, or what goes out."""
Edits = tuple[Edit, ...]


def entrances(index: NetworkIndex) -> dict[Place, Entrance]:
    """Where hosts' packets come in first: the interfaces that hold their gateways; and the ports to the outside."""
    names = {number: name for name, number in index.network.vlans.items()}
    found: dict[Place, Entrance] = {}
    gateways: dict[Address, Host] = {}
    for host in index.knowledge.network.hosts.values():
        for hop in host.gateway:
            gateways.setdefault(hop.address, host)
    for gateway, host in sorted(gateways.items(), key=lambda item: item[0]):
        for holder in index.holders(gateway):
            node, nic = holder.node, holder.nic
            if node.kind in ("router", "l3switch") and nic.up:
                number = nic.vlan or nic.tag or plugged_vlan(index.knowledge, host)
                who = names.get(number, str(number)) if number is not None else f"{node.name}-{nic.name}"
                found[node.name, nic.name] = Entrance(who, End(node.name, nic.name), _subnets(nic))
    for place, entrance in _alone(index, names):
        found.setdefault(place, entrance)
    for node, nic, _ in ways_outside(index.knowledge):
        every = tuple(Prefix(version, 0, 0) for version in sorted({a.version for a in nic.addresses}))
        found[node.name, nic.name] = Entrance(OUTSIDE, End(node.name, nic.name), every)
    order = {who: number for number, who in enumerate(index.network.vlans)}
    return dict(sorted(found.items(), key=lambda item: order.get(item[1].who, len(order))))


def _alone(index: NetworkIndex, names: Mapping[int, str]) -> Iterator[tuple[Place, Entrance]]:
    """The interfaces of routing devices that are a VLAN's only ones: its gateways, though no host is there yet."""
    by_vlan: dict[int, list[tuple[Node, Nic]]] = {}
    for node in index.knowledge.devices.values():
        for nic in node.nics.values() if node.kind in ("router", "l3switch") else ():
            number = nic.vlan or nic.tag
            if number is not None and nic.addresses:
                by_vlan.setdefault(number, []).append((node, nic))
    for number, held in by_vlan.items():
        if len(held) == 1:
            node, nic = held[0]
            who = names.get(number, str(number))
            yield (node.name, nic.name), Entrance(who, End(node.name, nic.name), _subnets(nic))


def _subnets(nic: Nic) -> tuple[Prefix, ...]:
    return tuple(dict.fromkeys(own.prefix for own in nic.addresses if not is_link_local(own)))


def entrances_for(index: NetworkIndex, host: str, places: Mapping[Place, Entrance]) -> list[Place]:
    """The entrances by which what a host, or the outside, sends comes in."""
    known = index.knowledge.network.hosts.get(host)
    if known is None:
        return [place for place, entrance in places.items() if entrance.who == OUTSIDE]
    holders = (holder for hop in known.gateway for holder in index.holders(hop.address))
    return [place for holder in holders if (place := (holder.node.name, holder.nic.name)) in places]


def wanted_filters(index: NetworkIndex, places: Mapping[Place, Entrance]) -> dict[Side, Wanted]:
    """What the network's policy wants at each entrance, of what comes in and of what goes out."""
    wanted = filters_for(*_asked(index, places))
    return {side_of(one): one for one in wanted}


def _asked(index: NetworkIndex, places: Mapping[Place, Entrance]) -> tuple[Network, Policy, Sequence[Entrance]]:
    policy = index.network.policy
    assert policy is not None
    return index.knowledge.network, policy, list(places.values())


def filter_at(index: NetworkIndex, side: Side) -> Filter | None:
    """The filter that is at a place now."""
    device, part, inwards = side
    nic = index.knowledge.devices[device].nics[part]
    return nic.filter_in if inwards else nic.filter_out


def side_of(wanted: Wanted) -> Side:
    """Where a filter is wanted."""
    return wanted.entrance.at.device, wanted.entrance.at.port, wanted.inwards


def ways_to_place(index: NetworkIndex, places: Mapping[Place, Entrance]) -> list[dict[Side, Edits]]:
    """The edits that make filters what the network's policy wants, by where they are: at those who send alone; and
    where fewer lines do elsewhere, there, too."""
    ways = ways_to_filter(*_asked(index, places))
    return [{side_of(one): placing(index, one) for one in wanted} for wanted in ways]


def stale(index: NetworkIndex, places: Mapping[Place, Entrance], wanted: Mapping[Side, Edits]) -> dict[Place, Edits]:
    """The edits that take away, at each entrance, the filter of what goes out which nothing wants there."""
    found: dict[Place, Edits] = {}
    for name, interface in places:
        node = index.knowledge.devices[name]
        nic = node.nics[interface]
        if nic.filter_out is not None and (name, interface, False) not in wanted:
            found[name, interface] = taken_away(node, nic, inwards=False)
    return found


def lines_of(edits: Iterable[Edit]) -> int:
    """How many lines of filters edits write."""
    written = [edit.value for edit in edits if isinstance(edit.value, dict)]
    return sum(1 + len(value.get("rules", ())) for value in written)


def placing(index: NetworkIndex, wanted: Wanted) -> Edits:
    """The edits that make an entrance's filter the one that is wanted; none where it is."""
    at = wanted.entrance.at
    node = index.knowledge.devices[at.device]
    nic, inwards = node.nics[at.port], wanted.inwards
    old = nic.filter_in if inwards else nic.filter_out
    if wanted.filter is None:
        return _without(node, nic, inwards=inwards) if old is not None else ()
    if old is not None and replace(wanted.filter, name=old.name) == old:
        return ()
    if old is not None and len(naming(node, old)) == 1:
        return put(index, node, nic, replace(wanted.filter, name=old.name), inwards=inwards, anew=True)
    return (*put(index, node, nic, wanted.filter, inwards=inwards), *_left_behind(index, node.name, wanted.filter.name))


def _left_behind(index: NetworkIndex, there: str, name: str) -> Iterator[Edit]:
    """The edits that take a filter of a name from other devices where no interface names it any more."""
    for device in index.network.devices.values():
        if device.name != there and name in {filter_.name for filter_ in unnamed_filters(device)}:
            yield _removal(device, name)


def put(
    index: NetworkIndex, node: Node, nic: Nic, filter_: Filter, *, inwards: bool = True, anew: bool = False
) -> Edits:
    """The edits that put a filter at an interface: under a name that the device does not have yet for another, `anew`
    where the one of that name is to be written anew."""
    device = node.written
    assert isinstance(device, Device)
    number, name = 2, filter_.name
    while not anew and name in device.filters and replace(filter_, name=name) != device.filters[name]:
        name, number = f"{filter_.name}-{number}", number + 1
    edits = [] if anew else [Edit((*_place(node, nic), _key(inwards)), name)]
    if anew or name not in device.filters:
        written = _as_written(index, device, replace(filter_, name=name))
        edits.insert(0, Edit(("devices", device.name, "filters", name), written))
    return tuple(edits)


def taken_away(node: Node, nic: Nic, *, inwards: bool) -> Edits:
    """The edits that take a filter from an interface, and from the device where no other names it."""
    filter_ = nic.filter_in if inwards else nic.filter_out
    assert filter_ is not None
    edits = list(_without(node, nic, inwards=inwards))
    if len(naming(node, filter_)) == 1:
        device = node.written
        assert isinstance(device, Device)
        edits.append(_removal(device, filter_.name))
    return tuple(edits)


def _removal(device: Device, name: str) -> Edit:
    path: Path = ("devices", device.name, "filters")
    return Edit(path if len(device.filters) == 1 else (*path, name), REMOVE)


def _without(node: Node, nic: Nic, *, inwards: bool) -> Edits:
    return (Edit((*_place(node, nic), _key(inwards)), REMOVE),)


def _place(node: Node, nic: Nic) -> Path:
    device = node.written
    assert isinstance(device, Device)
    return ("devices", node.name, "interfaces" if nic.name in device.interfaces else "ports", nic.name)


def _key(inwards: bool) -> str:
    return "filter-in" if inwards else "filter-out"


def naming(node: Node, filter_: Filter) -> list[tuple[str, bool]]:
    """The interfaces that name a filter, and whether for what comes in."""
    both = ((nic.name, way, one) for nic in node.nics.values() for way, one in _filters(nic))
    return [(name, way) for name, way, one in both if one is filter_]


def _filters(nic: Nic) -> Iterable[tuple[bool, Filter | None]]:
    return ((True, nic.filter_in), (False, nic.filter_out))


def _as_written(index: NetworkIndex, device: Device, filter_: Filter) -> object:
    """A filter as the document holds it."""
    alone = replace(device, filters={filter_.name: filter_}, ports={}, interfaces={}, routes=())
    network = with_changes(index.network, devices={device.name: alone}, hosts={}, cables=(), expect=(), outside=None)
    return document_of(with_changes(network, policy=None))["devices"][device.name]["filters"][filter_.name]
