"""Networks with everything in them, and every field of every part of them changed to each of several values."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import fields, is_dataclass, replace
from fractions import Fraction
from functools import cache
from random import Random
from types import UnionType
from typing import Any, Literal, NamedTuple, Union, get_args, get_origin, get_type_hints

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.errors import ModelError
from archipelago.model.demand import Demand
from archipelago.model.expectation import Expectation
from archipelago.model.filters import Probe, parse_traffic
from archipelago.model.network import Network
from archipelago.model.parts import Aggregate, End, Loopback, Mark, Port, VlanInterface
from archipelago.model.policy import Policy, PolicyRule
from archipelago.model.virtual import Track, VirtualRouter
from makers import filtered, leasing, scrambled, translated, with_sizes
from outages_referee import crowded
from redundant import acting_as_one, redundant

Field = tuple[str, str]
"""A part's class and the name of one of its fields."""
UNREAD_BY_DESIGN = {("Network", "source"), ("Network", "marks")}
"""Where a network was read from is no part of it."""
VALUES: Mapping[str, tuple[Any, ...]] = {
    "title": ("Tern Bay by night",),
    "description": ("behind the ticket hall",),
    "domain": ("quay.example",),
    "advertise_interval": (100, 1000, 3000),
    "hold_time": (0, 10_000),
    "answers": (Fraction(1, 2),),
    "probe": (Probe("udp", 53),),
    "mtu": (None, 1300, 1400, 1500, 9000),
    "speed": (None, 10**8, 10**9, 10**10),
    "path_cost": (None, 1, 2000, 200_000),
    "bridge_priority": (None, 0, 4096, 61440),
    "metric": (1, 2, 50),
    "mac": (None, 0x020000001001, 0x020000F0F0F0),
    "priority": (1, 90, 100, 200, 254),
    "priority_decrement": (1, 60, 200),
}


def full_of_everything(random: Random) -> Network:
    """A small network in which filters, translation, sizes, leases, trees, shared gateways, the outside, a policy,
    expectations and demands meet."""
    network = redundant(random) if random.random() < 0.5 else scrambled(random, small=True, anything=True)
    assert network is not None
    if random.random() < 0.3:
        network = acting_as_one(network, random)
    if random.random() < 0.7:
        network = crowded(network, random)
    if random.random() < 0.5:
        network = leasing(network, random)
    if random.random() < 0.7 and any(host.addresses for host in network.hosts.values()):
        network = filtered(network, random)
    if random.random() < 0.5:
        network = with_sizes(network, random)
    if random.random() < 0.5:
        network = translated(network, random)
    if random.random() < 0.3 and network.vlans:
        network = suspending(network, random)
    network = with_shared_parts(with_routed_aggregates(network, random), random)
    ends = [*network.vlans, *network.hosts]
    pairs = [(random.choice(ends), random.choice(ends)) for _ in range(3)]
    kinds = (parse_traffic("tcp/443"),)
    rules = [PolicyRule((a,), (b,), **{random.choice(("may", "may_not")): kinds}) for a, b in pairs]
    probe = (Probe("tcp", 443),) if random.random() < 0.3 else ()
    return replace(
        network,
        title="Tern Bay",
        expect=tuple(Expectation(a, b, random.random() < 0.7, probe) for a, b in pairs),
        traffic=tuple(Demand(a, b, 10**6) for a, b in pairs),
        policy=Policy("any", tuple(rules)) if random.random() < 0.3 else None,
    )


def suspending(network: Network, random: Random) -> Network:
    """The network with some VLANs suspended, on some switches or everywhere."""
    ids = sorted(set(network.vlans.values()))
    everywhere = tuple(random.sample(ids, 1)) if random.random() < 0.3 else ()
    devices = {
        name: replace(device, suspended_vlans=tuple(random.sample(ids, random.randint(1, min(2, len(ids))))))
        if device.kind != "router" and random.random() < 0.5
        else device
        for name, device in network.devices.items()
    }
    return replace(network, devices=devices, suspended=everywhere)


def with_routed_aggregates(network: Network, random: Random) -> Network:
    """The network with some routed ports each the only member of an aggregate, which has the port's settings."""
    for name, device in network.devices.items():
        routed = [port for port in device.ports.values() if port.addresses]
        if not routed or random.random() < 0.6:
            continue
        port = random.choice(routed)
        common = {spec.name for spec in fields(Port)} & {spec.name for spec in fields(Aggregate)} - {"name"}
        settings = {key: getattr(port, key) for key in common}
        ports = {**device.ports, port.name: Port(port.name)}
        interfaces = {**device.interfaces, "bundle9": Aggregate("bundle9", members=(port.name,), **settings)}
        try:
            made = replace(device, ports=ports, interfaces=interfaces)
            network = replace(network, devices={**network.devices, name: made})
        except ModelError:
            continue  # something names the port
    return network


def with_shared_parts(network: Network, random: Random) -> Network:
    """The network with virtual routers that track something, translation and relays at interfaces of any kind."""
    devices = dict(network.devices)
    for name, device in network.devices.items():
        ports, interfaces = dict(device.ports), dict(device.interfaces)
        for into in (ports, interfaces) if device.kind != "switch" else ():
            for label, part in into.items():
                own = next((one for one in part.addresses if one.version == 4), None)
                if own is None or isinstance(part, Loopback) or random.random() < 0.6:
                    continue
                shared = Address(4, own.prefix.value + random.randint(2, 5))
                tracked = random.choice((Track(interface=label), Track(network=own.prefix)))
                more: dict[str, Any] = {}
                if not part.virtual and own.length < 29:
                    more["virtual"] = (VirtualRouter(own.prefix.value % 200 + 1, (shared,), track=(tracked,)),)
                if random.random() < 0.3:
                    more["dhcp_relay"] = (shared,)
                if random.random() < 0.5 and device.kind == "router" and not isinstance(part, VlanInterface):
                    more["source_nat"] = (own.prefix,)
                into[label] = replace(part, **more)
        if any(entry.at.device == name for entry in network.outside or ()):
            ports["spare"] = Port("spare", addresses=(InterfaceAddress(4, 0xC6336401, 30),))
        devices[name] = replace(device, ports=ports, interfaces=interfaces)
    try:
        return replace(network, devices=devices)
    except ModelError:
        return network


class Change(NamedTuple):
    """A network once one field of one part is otherwise, and which field that is."""

    field: Field
    network: Network


def parts_of(value: Any, way: tuple[Any, ...] = ()) -> Iterator[tuple[tuple[Any, ...], Any]]:
    """Every part of a network with the way to it: names of fields, keys of mappings, places in lists."""
    if isinstance(value, Mark | Address | InterfaceAddress | Prefix):
        return
    if is_dataclass(value) and not isinstance(value, type):
        yield way, value
        for spec in fields(value):
            yield from parts_of(getattr(value, spec.name), (*way, spec.name))
    elif isinstance(value, tuple) and hasattr(value, "_fields"):
        yield way, value
        for name in value._fields:
            yield from parts_of(getattr(value, name), (*way, name))
    elif isinstance(value, Mapping):
        for key, entry in value.items():
            yield from parts_of(entry, (*way, key))
    elif isinstance(value, tuple):
        for number, entry in enumerate(value):
            yield from parts_of(entry, (*way, number))


def with_value(value: Any, way: tuple[Any, ...], new: Any) -> Any:
    """The value with something else at the end of a way; what is not on it is the same objects."""
    if not way:
        return new
    key, *rest = way
    if isinstance(value, Mapping):
        return {**value, key: with_value(value[key], tuple(rest), new)}
    if isinstance(value, tuple) and isinstance(key, int):
        return (*value[:key], with_value(value[key], tuple(rest), new), *value[key + 1 :])
    inner = {key: with_value(getattr(value, key), tuple(rest), new)}
    return value._replace(**inner) if isinstance(value, tuple) else replace(value, **inner)


def every_field() -> list[Field]:
    """Each field of each part that a network can have."""
    seen: dict[type, None] = {}

    def visit(hint: Any) -> None:
        part = isinstance(hint, type) and (is_dataclass(hint) or hasattr(hint, "_fields"))
        if part and hint not in seen and hint not in (Mark, Address, InterfaceAddress, Prefix):
            seen[hint] = None
            for inner in get_type_hints(hint).values():
                visit(inner)
        for inner in get_args(hint):
            visit(inner)

    visit(Network)
    return [(kind.__name__, name) for kind in seen for name in _hints(kind)]


@cache
def _hints(kind: type) -> dict[str, Any]:
    """The fields of a part with their types; its name, by which it is filed, aside."""
    names = [spec.name for spec in fields(kind)] if is_dataclass(kind) else list(kind._fields)  # type: ignore[attr-defined]
    hints = get_type_hints(kind)
    return {name: hints[name] for name in names if name != "name"}


def _others(hint: Any, name: str, value: Any, seen: Mapping[Any, list[Any]], random: Random) -> list[Any]:
    """Values that a field could have instead: those its type allows, those of its namesakes, this one a little
    otherwise."""
    options: list[Any] = [*VALUES.get(name, ())]
    for inner in get_args(hint) if get_origin(hint) in (Union, UnionType) else (hint,):
        if get_origin(inner) is Literal:
            options += get_args(inner)
        if inner is bool:
            options += [True, False]
        if inner is type(None):
            options.append(None)
    namesakes = seen.get((name, hint), [])
    options += random.sample(namesakes, min(len(namesakes), 4))
    if isinstance(value, tuple) and not hasattr(value, "_fields"):
        several = [entry for other in namesakes if isinstance(other, tuple) for entry in other]
        options += [(), value[1:], value[::-1], (*value, *random.sample(several, min(1, len(several))))]
        options += [(_nudged(value[0], random), *value[1:])] if value else []
    if isinstance(value, End):
        options += [
            End(random.choice((value.device, *seen["devices"])), f"p{random.randint(300, 900)}"),
            *seen["routed"],
        ]
    if name == "dns_server":
        options += [(Address(4, 0x0A2C0105),)]
    if isinstance(value, Mapping):
        keys = list(value)
        options += [{}, dict(reversed(value.items()))]
        options += [{key: value[key] for key in keys if key != gone} for gone in random.sample(keys, min(2, len(keys)))]
    options.append(_nudged(value, random))
    return [one for one in options if type(one) is not type(value) or one != value or _order(one) != _order(value)]


def _order(value: Any) -> Any:
    return list(value) if isinstance(value, Mapping) else None


def _nudged(value: Any, random: Random) -> Any:
    if isinstance(value, Address | InterfaceAddress):
        return value._replace(value=value.value + random.choice((-1, 1, 2, 64)))
    if isinstance(value, Prefix) and 1 < value.length < 30:
        longer = value.length + 1
        return random.choice((value.supernet(value.length - 1), Prefix(value.version, value.value, longer)))
    if isinstance(value, int) and not isinstance(value, bool):
        return value + random.choice((-1, 1))
    return value


def changes(network: Network, random: Random, tried: Counter[Field], count: int) -> Iterator[Change]:
    """Changes of single fields, those that were made least often so far first.

    Args:
        network: the network.
        random: what chooses.
        tried: how often each field was changed already; counted on.
        count: how many changes.
    """
    found = [(way, part) for way, part in parts_of(network)]
    routed = [
        End(one.name, port.name) for one in network.devices.values() for port in one.ports.values() if port.addresses
    ]
    seen: dict[Any, list[Any]] = {"devices": list(network.devices), "routed": routed}
    sites: dict[Field, list[tuple[tuple[Any, ...], Any]]] = {}
    for way, part in found:
        for name, hint in _hints(type(part)).items():
            seen.setdefault((name, hint), []).append(getattr(part, name))
            sites.setdefault((type(part).__name__, name), []).append((way, part))
    failed: Counter[Field] = Counter()
    for _ in range(count):
        order = sorted(sites, key=lambda field: (tried[field] + 3 * failed[field], random.random()))
        for field in order:
            if field in UNREAD_BY_DESIGN:
                continue
            made = _changed(network, field, sites[field], seen, random)
            if made is not None:
                tried[field] += 1
                yield Change(field, made)
                break
            failed[field] += 1


def _changed(network: Network, field: Field, sites: Any, seen: Any, random: Random) -> Network | None:
    """The network with a field changed somewhere; None where no value that was tried makes a network."""
    name = field[1]
    for _ in range(6):
        way, part = random.choice(sites)
        hint = _hints(type(part))[name]
        options = _others(hint, name, getattr(part, name), seen, random)
        if not options:
            continue
        try:
            made = with_value(network, (*way, name), random.choice(options))
            return replace(made)
        except (ModelError, TypeError, AttributeError, ValueError, KeyError):
            continue
    return None
