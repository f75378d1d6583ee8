"""Random briefs and networks, and single mistakes to put into a working network."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from random import Random
from typing import Any

from archipelago import DocumentError, EditError, amend, design, network_text
from archipelago.addressing.values import Address, InterfaceAddress, parse_prefix
from archipelago.files.codecs import READ, Context
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex, index_network
from archipelago.model.brief import Brief, Conventions, DeviceNeed, GatewayPlace, HostNeed, Outside, VlanNeed
from archipelago.model.filters import Filter, FilterRule, Ports, parse_traffic
from archipelago.model.finding import REMOVE, Edit
from archipelago.model.key import Value
from archipelago.model.leases import AddressRange, Pool
from archipelago.model.network import Network
from archipelago.model.parts import (
    Aggregate,
    Cable,
    Device,
    End,
    Host,
    Interface,
    Loopback,
    NextHop,
    OutsidePort,
    Port,
    Subinterface,
    VlanInterface,
)

NAMES = ("tickets", "crew", "cameras", "yard", "guests", "cargo", "radio", "signals")


def trunked_brief(random: Random, small: bool = False) -> Brief:
    """One router behind a trunk, a tree of switches, some VLANs with hosts."""
    switches = [f"quay-{number}" for number in range(1, random.randint(1, 2 if small else 4) + 1)]
    vlans = {
        name: VlanNeed(name, 110 + 10 * index + random.randint(0, 9), random.choice((0, 3, 20, 60)))
        for index, name in enumerate(random.sample(NAMES, random.randint(1, 2 if small else 5)))
    }
    devices = {"landing": DeviceNeed("landing", "router")} | {name: DeviceNeed(name, "switch") for name in switches}
    cables = [Cable(End("landing", "p1"), End(switches[0], "p24"))]
    for index, name in enumerate(switches[1:], 1):
        cables.append(Cable(End(random.choice(switches[:index]), f"p{30 + index}"), End(name, "p24")))
    hosts = {}
    for vlan in vlans.values():
        for number in range(random.randint(1, 2 if small else 3)):
            name = f"{vlan.name}-{number}"
            hosts[name] = HostNeed(name, vlan.id, random.choice(switches), None)
    return Brief(
        "random",
        (parse_prefix("10.44.0.0/16"), *([parse_prefix("2001:db8:44::/48")] if random.random() < 0.3 else [])),
        (),
        Conventions(
            subnets=random.choice(("by-size", "by-vlan-id")), subinterface=random.choice(("by-vlan-id", "counted"))
        ),
        vlans,
        devices,
        (GatewayPlace(tuple(vlan.id for vlan in vlans.values()), "landing", "p1"),),
        hosts,
        tuple(cables),
    )


def mixed_brief(random: Random, small: bool = False) -> Brief:
    """Gateways anywhere: subinterfaces, VLAN interfaces on several switches, whole router ports, an outside."""
    cores = [f"isle-{number}" for number in range(1, random.randint(1, 2 if small else 4) + 1)]
    devices = {name: DeviceNeed(name, "l3switch") for name in cores} | {"landing": DeviceNeed("landing", "router")}
    cables = [Cable(End("landing", "p1"), End(cores[0], "p48"))]
    for index, name in enumerate(cores[1:], 1):
        cables.append(Cable(End(random.choice(cores[:index]), f"p{40 + index}"), End(name, "p48")))
    if len(cores) > 2 and random.random() < 0.5:
        cables.append(Cable(End(cores[0], "p47"), End(cores[-1], "p47")))
    places: list[tuple[str, str | None]] = [(name, None) for name in cores]
    reach_of = {name: [name] for name in cores}
    if random.random() < 0.7:
        devices["quay-1"] = DeviceNeed("quay-1", "switch")
        cables.append(Cable(End("landing", "p2"), End("quay-1", "p24")))
        places.append(("landing", "p2"))
        reach_of["landing"] = ["quay-1"]
    if random.random() < 0.5:
        devices["quay-2"] = DeviceNeed("quay-2", "switch")
        core = random.choice(cores)
        cables.append(Cable(End(core, "p39"), End("quay-2", "p24")))
        reach_of[core].append("quay-2")
    vlans, gateways, hosts = {}, [], {}
    for index, name in enumerate(random.sample(NAMES, random.randint(2, 3 if small else 6))):
        vlans[name] = VlanNeed(name, 110 + 10 * index, random.choice((5, 20, 60)))
        device, port = random.choice(places)
        gateways.append(GatewayPlace((vlans[name].id,), device, port))
        for number in range(1 if small else random.randint(1, 2)):
            host = f"{name}-{number}"
            hosts[host] = HostNeed(host, vlans[name].id, random.choice(reach_of[device]), None)
    outside = None
    if random.random() < 0.5:
        held = InterfaceAddress(4, (203 << 24) + (113 << 8) + 2, 30)
        outside = Outside(End("landing", "p9"), (held,), (NextHop(held.address._replace(value=held.value - 1)),))
    return Brief(
        "random",
        (parse_prefix("10.44.0.0/16"), *([parse_prefix("2001:db8:44::/48")] if random.random() < 0.3 else [])),
        (),
        Conventions(transit=random.choice((30, 31)), loopbacks=random.random() < 0.3),
        vlans,
        devices,
        tuple(gateways),
        hosts,
        tuple(cables),
        outside,
    )


Mistake = tuple[str, tuple[Edit, ...], set[str]]
"""What was done, as edits, and the kinds that name it rightly."""


def mistakes(network: Network, random: Random) -> Iterator[Mistake]:
    """Every kind of single mistake that fits a designed network, each once, at a random place."""
    for make in _MAKERS:
        made = list(make(network))
        if made:
            yield random.choice(made)


def _v4(host: Host) -> InterfaceAddress:
    return host.addresses[0]


def _address(host: Host, new: InterfaceAddress) -> Edit:
    values = [str(new), *(str(one) for one in host.addresses[1:])]
    return Edit(("hosts", host.name, "address"), values[0] if len(values) == 1 else values)


def _gateway(host: Host, new: str) -> Edit:
    values = [new, *(str(one) for one in host.gateway[1:])]
    return Edit(("hosts", host.name, "gateway"), values[0] if len(values) == 1 else values)


def _no_gateway(network: Network) -> Iterator[Mistake]:
    for host in network.hosts.values():
        rest = [str(hop) for hop in host.gateway[1:]]
        value = rest[0] if rest else REMOVE
        yield f"{host.name} without gateway", (Edit(("hosts", host.name, "gateway"), value),), {"gateway-missing"}


def _unheld_gateway(network: Network) -> Iterator[Mistake]:
    for host in network.hosts.values():
        last = _v4(host).prefix.usable()[1]
        taken = {a.value for other in network.hosts.values() for a in other.addresses}
        if last not in taken:
            wrong = str(_v4(host)._replace(value=last).address)
            yield f"{host.name} with gateway {wrong}", (_gateway(host, wrong),), {"gateway-wrong"}


def _host_as_gateway(network: Network) -> Iterator[Mistake]:
    for host in network.hosts.values():
        for other in network.hosts.values():
            if other is not host and _v4(host).prefix.holds(_v4(other)):
                wrong = str(_v4(other).address)
                yield f"{host.name} takes {other.name} as gateway", (_gateway(host, wrong),), {"gateway-wrong"}


def _far_gateway(network: Network) -> Iterator[Mistake]:
    for host in network.hosts.values():
        for other in network.hosts.values():
            if other.gateway and not _v4(host).prefix.holds(other.gateway[0].address):
                wrong = str(other.gateway[0])
                yield f"{host.name} with gateway {wrong}", (_gateway(host, wrong),), {"gateway-wrong"}


def _interface_off(network: Network) -> Iterator[Mistake]:
    for device in network.devices.values():
        if device.kind != "switch":
            for one in device.interfaces.values():
                if one.addresses and isinstance(one, (Subinterface, VlanInterface)):
                    path = ("devices", device.name, "interfaces", one.name, "off")
                    yield f"{device.name}/{one.name} off", (Edit(path, "true"),), {"admin-down"}


def _port_off(network: Network) -> Iterator[Mistake]:
    ends = [end for cable in network.cables for end in (cable.a, cable.b)]
    ends += [host.at for host in network.hosts.values()]
    for end in ends:
        port = network.devices[end.device].ports.get(end.port)
        if port is None or not port.off:
            yield f"{end} off", (Edit(("devices", end.device, "ports", end.port, "off"), "true"),), {"admin-down"}


def _device_off(network: Network) -> Iterator[Mistake]:
    for name in network.devices:
        yield f"{name} off", (Edit(("devices", name, "off"), "true"),), {"admin-down"}


def _uncabled(network: Network) -> Iterator[Mistake]:
    for index, cable in enumerate(network.cables):
        yield f"no cable {cable}", (Edit(("cables", index), REMOVE),), {"not-cabled"}


def _cable_off(network: Network) -> Iterator[Mistake]:
    for index, cable in enumerate(network.cables):
        value = {"ends": str(cable), "off": "true"}
        yield f"{cable} off", (Edit(("cables", index), value),), {"admin-down"}


def _trunks(network: Network) -> Iterator[tuple[str, str, tuple[int, ...]]]:
    for device in network.devices.values():
        for port in device.ports.values():
            if isinstance(port.trunk, tuple) and port.trunk:
                yield device.name, port.name, port.trunk


def _access_instead(network: Network) -> Iterator[Mistake]:
    for device, port, vlans in _trunks(network):
        path = ("devices", device, "ports", port)
        edits = (
            Edit((*path, "trunk"), REMOVE),
            Edit((*path, "untagged"), REMOVE),
            Edit((*path, "access"), str(vlans[0])),
        )
        yield f"{device}/{port} left an access port", edits, {"trunk-expected"}


def _vlan_off_trunk(network: Network) -> Iterator[Mistake]:
    for device, port, vlans in _trunks(network):
        path = ("devices", device, "ports", port, "trunk")
        for vlan in vlans:
            rest = [str(one) for one in vlans if one != vlan]
            yield f"{vlan} not on {device}/{port}", (Edit(path, rest),), {"vlan-not-carried"}


def _vlan_absent(network: Network) -> Iterator[Mistake]:
    for device in network.devices.values():
        if device.kind != "router":
            carried = {vlan for port in device.ports.values() for vlan in (port.access, *(port.trunk or ()))}
            for vlan in network.vlans.values():
                if vlan not in carried:
                    continue
                rest = [str(one) for one in network.vlans.values() if one != vlan]
                edit = Edit(("devices", device.name, "vlans"), rest)
                yield f"{vlan} not on {device.name}", (edit,), {"vlan-absent"}


def _wrong_access(network: Network) -> Iterator[Mistake]:
    for host in network.hosts.values():
        port = network.devices[host.at.device].ports.get(host.at.port) or Port(host.at.port)
        for vlan in network.vlans.values():
            if port.access is not None and vlan != port.access:
                path = ("devices", host.at.device, "ports", host.at.port, "access")
                yield f"{host.name} in VLAN {vlan}", (Edit(path, str(vlan)),), {"vlan-wrong"}


def _subinterface_gone(network: Network) -> Iterator[Mistake]:
    for device in network.devices.values():
        for one in device.interfaces.values():
            if isinstance(one, Subinterface) and len(device.interfaces) > 1 and _peopled(network, one):
                path = ("devices", device.name, "interfaces", one.name)
                yield f"no {device.name}/{one.name}", (Edit(path, REMOVE),), {"no-gateway-in-vlan"}


def _peopled(network: Network, one: Subinterface) -> bool:
    return any(
        held.prefix.holds(a) for held in one.addresses for host in network.hosts.values() for a in host.addresses
    )


def _tag_gone(network: Network) -> Iterator[Mistake]:
    for device in network.devices.values():
        for one in device.interfaces.values():
            if isinstance(one, Subinterface):
                path = ("devices", device.name, "interfaces", one.name, "tag")
                yield f"{device.name}/{one.name} without tag", (Edit(path, REMOVE),), {"tag-missing"}


def _wrong_mask(network: Network) -> Iterator[Mistake]:
    for host in network.hosts.values():
        held = _v4(host)
        for length in (held.length - 4, held.length - 1, held.length + 1, 30):
            if not 8 <= length <= 30 or length == held.length:
                continue
            new = held._replace(length=length)
            if held.value not in (new.prefix.value, new.prefix.last):
                yield f"{host.name} with {new}", (_address(host, new),), {"mask-mismatch"}


_MAKERS: tuple[Callable[[Network], Iterator[Mistake]], ...] = (
    _no_gateway,
    _unheld_gateway,
    _host_as_gateway,
    _far_gateway,
    _interface_off,
    _port_off,
    _device_off,
    _uncabled,
    _cable_off,
    _access_instead,
    _vlan_off_trunk,
    _vlan_absent,
    _wrong_access,
    _subinterface_gone,
    _tag_gone,
    _wrong_mask,
)


def scrambled(random: Random, small: bool = False, anything: bool = False) -> Network | None:
    """A network with up to four mistakes, plausible or wild; None where it would storm or where an address is held
    twice, which a kernel decides by chance, unless anything goes."""
    network = designed(random.choice((trunked_brief, mixed_brief))(random, small))
    if random.random() < 0.25:
        network = twinned(network)
    if random.random() < 0.3:
        network = _read(amend(network_text(network), _bundled(network, random)))
    for _ in range(random.choice((0, 1, 1, 2, 2, 3, 4))):
        text = network_text(network)
        options: list[tuple[Edit, ...]] = [edits for _, edits, _ in mistakes(network, random)]
        options += [(edit,) for edit in wild(network, random)]
        try:
            network = _read(amend(text, random.choice(options)))
        except (DocumentError, EditError):
            continue
    if random.random() < 0.5:
        network = _read(amend(network_text(network), _advertised(network, random)))
    for _ in range(random.choice((0, 1, 1, 2)) if anything else 0):
        network = _read(amend(network_text(network), _odd(network, random)))
    index = index_network(network)
    twice = any(_contested(index, holders) for _, holders in index.shared_addresses())
    looped = any(one.circle is not None for one in index.domains.every())
    return network if anything or not (twice or looped) else None


def filtered(network: Network, random: Random) -> Network:
    """The network with filters, right and wrong ones, at its routing devices."""
    subnets = sorted({str(address.prefix) for host in network.hosts.values() for address in host.addresses})
    singles = sorted({str(address.address) for host in network.hosts.values() for address in host.addresses})
    devices = dict(network.devices)
    for name, device in network.devices.items():
        parts = [part for part in (*device.ports.values(), *device.interfaces.values()) if part.addresses]
        parts = [part for part in parts if not isinstance(part, Loopback)]
        if device.kind == "switch" or not parts or random.random() < 0.2:
            continue
        made = [
            _filter(f"f{number}", random, (subnets, singles), device.kind) for number in range(random.randint(1, 4))
        ]
        ports, interfaces = dict(device.ports), dict(device.interfaces)
        for part in parts:
            names = [random.choice(made).name if random.random() < 0.45 else None for _ in range(2)]
            into = ports if isinstance(part, Port) else interfaces
            into[part.name] = replace(part, filter_in=names[0], filter_out=names[1])
        devices[name] = replace(device, ports=ports, interfaces=interfaces, filters={one.name: one for one in made})
    return replace(network, devices=devices)


def with_sizes(network: Network, random: Random) -> Network:
    """The network with ports, interfaces and hosts that pass more or fewer octets than usual."""
    sizes = (None, None, None, None, 1300, 1400, 1480, 9000)

    def some(parts: Mapping[str, Any]) -> dict[str, Any]:
        plain = {name: part for name, part in parts.items() if isinstance(part, Loopback)}
        return plain | {
            name: replace(part, mtu=random.choice(sizes)) for name, part in parts.items() if name not in plain
        }

    devices = {}
    for name, device in network.devices.items():
        members = {member for one in device.interfaces.values() if isinstance(one, Aggregate) for member in one.members}
        ports = {**device.ports, **some({one: port for one, port in device.ports.items() if one not in members})}
        interfaces = some(device.interfaces)
        for label, one in interfaces.items():
            if isinstance(one, Subinterface) and one.mtu is not None:
                parent = ports.get(one.parent) or interfaces.get(one.parent)
                if one.mtu > (getattr(parent, "mtu", None) or 1500):
                    interfaces[label] = replace(one, mtu=None)
        devices[name] = replace(device, ports=ports, interfaces=interfaces)
    return replace(network, devices=devices, hosts=some(network.hosts))


def translated(network: Network, random: Random) -> Network:
    """The network with routers that translate sources, and with the outside where a port leads there."""
    subnets = sorted({a.prefix for host in network.hosts.values() for a in host.addresses if a.version == 4})
    if not subnets:
        return network
    devices, edges = dict(network.devices), []
    plugged = {end for cable in network.cables for end in cable.ends} | {host.at for host in network.hosts.values()}
    for name, device in network.devices.items():
        ports, interfaces = dict(device.ports), dict(device.interfaces)
        for into in (ports, interfaces):
            for label, part in into.items():
                v4 = any(address.version == 4 for address in part.addresses)
                end = End(name, label)
                if into is ports and v4 and device.kind != "switch" and end not in plugged:
                    back = random.choice(("all", "none", tuple(random.sample(subnets, 1))))
                    edges.append(OutsidePort(end, back))
                if device.kind == "router" and v4 and isinstance(part, Port | Subinterface) and random.random() < 0.4:
                    chosen = tuple(random.sample(subnets, min(len(subnets), random.randint(1, 3))))
                    into[label] = replace(part, source_nat=chosen)
        devices[name] = replace(device, ports=ports, interfaces=interfaces)
    outside = tuple(edges) if edges and random.random() < 0.8 else None
    return replace(network, devices=devices, outside=outside)


def _filter(name: str, random: Random, places: tuple[list[str], list[str]], kind: str) -> Filter:
    rules = tuple(_rule(random, places) for _ in range(random.randint(0, 5)))
    stateful = kind == "router" and random.random() < 0.5
    return Filter(name, random.choice(("accept", "accept", "drop", "reject")), rules, stateful)


def _rule(random: Random, places: tuple[list[str], list[str]]) -> FilterRule:
    words = ("any", "any", "icmp", "tcp", "udp", "tcp/443", "udp/53", "tcp/440-450", "47", "58")
    kinds = random.sample(words, random.choice((1, 1, 2)))
    traffic = tuple(parse_traffic(word) for word in kinds)
    fields: dict[str, object] = {random.choice(("accept", "accept", "drop", "reject")): traffic}
    ends = [random.choice(random.choice(places)) for _ in range(random.randint(1, 3))]
    several = tuple(READ[Value.ADDRESSES](end, Context()) for end in ends)
    chosen = random.random()
    if chosen < 0.35:
        fields["source"] = several
    elif chosen < 0.7:
        fields["destination"] = several
    elif chosen < 0.85:
        one = several[0]
        same = [end for end in places[0] if (":" in end) == (one.version == 6)]
        fields |= {"source": (one,), "destination": (READ[Value.ADDRESSES](random.choice(same), Context()),)}
    if set(kinds) <= {"icmp", "58"} and random.random() < 0.5:
        fields["icmp_type"] = random.choice(("request", "reply", "error"))
    if kinds == ["tcp"] and random.random() < 0.4:
        fields["answering"] = True
    if set(kinds) <= {"tcp", "udp"} and random.random() < 0.5:
        fields[random.choice(("source_port", "destination_port"))] = (Ports(random.choice((53, 440, 49152)), 50_000),)
    return FilterRule(**fields)  # type: ignore[arg-type]


def _contested(index: NetworkIndex, holders: Sequence[Held]) -> bool:
    """Whether several hold one address other than in routing tables and on links of their own."""
    tables = {held.nic.vrf for held in holders}
    domains = {index.domains.of(held.endpoint) for held in holders}
    return len(tables) < len(holders) or len(domains) < len(holders) or any(h.node.kind == "host" for h in holders)


TWIN = "blue"
"""The `vrf` of a network's twin."""


def twinned(network: Network) -> Network:
    """The network with a copy of itself on its devices: other VLANs, ports and cables, the same subnets and gateway
    addresses in a `vrf` of its own. Hosts have addresses of their own, so that each can be asked for."""

    def other(end: End) -> End:
        return End(end.device, f"t{end.port}")

    def vlan(number: object) -> object:
        return (number + 2000 if number < 2000 else number - 2000) if isinstance(number, int) and number > 1 else number

    def turned(one: Port | Interface, routing: bool) -> Port | Interface:
        changed: dict[str, object] = {"name": f"t{one.name}"}
        for key in ("access", "untagged", "tag", "vlan"):
            if isinstance(getattr(one, key, None), int) and not isinstance(getattr(one, key), bool):
                changed[key] = vlan(getattr(one, key))
        if isinstance(getattr(one, "trunk", None), tuple):
            changed["trunk"] = tuple(map(vlan, one.trunk))
        if isinstance(one, Subinterface):
            changed["parent"] = f"t{one.parent}"
        if isinstance(one, Aggregate):
            changed["members"] = tuple(f"t{member}" for member in one.members)
        if routing:
            changed["vrf"] = TWIN
        return replace(one, **changed)

    devices = {}
    for name, device in network.devices.items():
        routing = device.kind != "switch"
        ports = [
            turned(port, routing and (device.kind == "router" or bool(port.addresses)))
            for port in device.ports.values()
        ]
        interfaces = [turned(one, True) for one in device.interfaces.values() if routing]
        routes = tuple(replace(route, vrf=TWIN) for route in device.routes)
        devices[name] = replace(
            device,
            vlans=None if device.vlans is None else (*device.vlans, *map(vlan, device.vlans)),
            ports={**device.ports, **{one.name: one for one in ports}},
            interfaces={**device.interfaces, **{one.name: one for one in interfaces}},
            routes=(*device.routes, *routes),
        )
    taken = {held.address for host in network.hosts.values() for held in host.addresses}
    taken |= {
        held.address for device in devices.values() for one in device.interfaces.values() for held in one.addresses
    }
    hosts = dict(network.hosts)
    for host in network.hosts.values():
        moved = []
        for held in host.addresses:
            first, last = held.prefix.usable()
            free = (
                value
                for value in range(first, min(last, first + 5000) + 1)
                if Address(held.version, value) not in taken
            )
            value = next(free, None)
            if value is not None:
                taken.add(Address(held.version, value))
                moved.append(held._replace(value=value))
        if len(moved) == len(host.addresses):
            hosts[f"t{host.name}"] = replace(host, name=f"t{host.name}", at=other(host.at), addresses=tuple(moved))
    cables = [*network.cables, *(replace(one, a=other(one.a), b=other(one.b)) for one in network.cables)]
    vlans = {**network.vlans, **{f"t{name}": vlan(number) for name, number in network.vlans.items()}}
    return replace(network, vlans=vlans, devices=devices, hosts=hosts, cables=tuple(cables))


def _read(text: str) -> Network:
    return network_from(parse(text.encode(), "random"))


def _odd(network: Network, random: Random) -> list[Edit]:
    """What a kernel cannot judge: a cable too many between switches, an address that somebody has already, or (which
    is no mistake) a host with a second address."""
    hosts = [host for host in network.hosts.values() if host.addresses]
    switches = [device.name for device in network.devices.values() if device.kind != "router"]
    kind = random.choice(("cable", "twice", "second"))
    if kind == "cable" and len(switches) > 1:
        a, b = random.sample(switches, 2)
        ends = [(name, f"p{random.randint(200, 999)}") for name in (a, b)]
        trunk = random.choice(({"trunk": "all", "untagged": "none"}, {"trunk": "all"}, {}))
        other = trunk if random.random() < 0.7 else {"access": random.choice([*network.vlans])}
        edits = [
            Edit(("devices", name, "ports", port), how) for (name, port), how in zip(ends, (trunk, other), strict=True)
        ]
        return [*edits, Edit(("cables", "+"), " ~ ".join(f"{name}/{port}" for name, port in ends))]
    if not hosts:
        return []
    host = random.choice(hosts)
    own = [*(str(held) for held in host.addresses), *(["auto"] if host.auto else [])]
    interfaces = [one for device in network.devices.values() for one in device.interfaces.values()]
    taken = random.choice([held for one in (*interfaces, *hosts) if one is not host for held in one.addresses])
    if kind == "twice":
        return [Edit(("hosts", host.name, "address"), str(taken))]
    free = taken._replace(value=taken.value + random.randint(40, 60))
    return [Edit(("hosts", host.name, "address"), [*own, str(free)])]


def _advertised(network: Network, random: Random) -> list[Edit]:
    """Some hosts with an IPv6 address take it from what routers advertise; some of them have no other."""
    edits = []
    for host in network.hosts.values():
        four = [str(held) for held in host.addresses if held.version == 4]
        if len(four) < len(host.addresses) and random.random() < 0.5:
            kept = four if random.random() < 0.8 else []
            hops = [str(hop) for hop in host.gateway if hop.address.version == 4] if kept else []
            edits.append(Edit(("hosts", host.name, "address"), [*kept, "auto"]))
            edits.append(Edit(("hosts", host.name, "gateway"), hops))
    return edits


def _bundled(network: Network, random: Random) -> list[Edit]:
    """A cable between two devices becomes an aggregate of two."""
    cable = random.choice(network.cables)
    edits = []
    for end in (cable.a, cable.b):
        device = network.devices[end.device]
        children = [
            one for one in device.interfaces.values() if isinstance(one, Subinterface) and one.parent == end.port
        ]
        port = device.ports.get(end.port)
        if children or port is None:
            return []
        settings: dict[str, object] = {"members": [end.port, f"{end.port}b"]}
        if port.trunk is not None:
            settings |= {"trunk": [str(vlan) for vlan in port.trunk], "untagged": "none"}
        if port.addresses:
            settings["address"] = [str(held) for held in port.addresses]
        edits.append(Edit(("devices", end.device, "ports", end.port), {}))
        edits.append(Edit(("devices", end.device, "interfaces", f"up-{end.port}"), settings))
    edits.append(Edit(("cables", "+"), f"{cable.a}b ~ {cable.b}b"))
    if random.random() < 0.5:
        edits.append(Edit(("devices", cable.a.device, "ports", cable.a.port, "off"), "true"))
    return edits


def wild(network: Network, random: Random) -> Iterator[Edit]:
    """Changes that no plan would make, each syntactically right."""
    vlans = [str(vlan) for vlan in network.vlans.values()] + ["1"]
    hosts = list(network.hosts.values())
    addresses = [str(held.address) for host in hosts for held in host.addresses]
    addresses += [str(a.address) for d in network.devices.values() for i in d.interfaces.values() for a in i.addresses]
    for device in network.devices.values():
        path = ("devices", device.name)
        for port in device.ports.values():
            if port.trunk is not None:
                yield Edit((*path, "ports", port.name, "untagged"), random.choice([*vlans, "none"]))
                yield Edit((*path, "ports", port.name, "trunk"), random.choice(["all", random.sample(vlans, 1)]))
            elif port.access is not None:
                yield Edit(
                    (*path, "ports", port.name), {"trunk": [random.choice(vlans)], "untagged": random.choice(vlans)}
                )
                yield Edit((*path, "ports", port.name), {})
        for one in device.interfaces.values():
            if isinstance(one, Subinterface):
                yield Edit((*path, "interfaces", one.name, "tag"), random.choice(vlans))
                yield Edit((*path, "interfaces", one.name, "untagged"), "true")
            if isinstance(one, VlanInterface):
                yield Edit((*path, "interfaces", one.name, "vlan"), random.choice(vlans))
            if one.addresses and one.addresses[0].length < 31:
                held = one.addresses[0]._replace(length=one.addresses[0].length + random.choice((-2, -1, 1)))
                yield Edit((*path, "interfaces", one.name, "address"), str(held))
        if device.kind == "l3switch":
            yield Edit((*path, "routing"), random.choice(([], ["ipv6"], ["ipv4"])))
        for index in range(len(device.routes)):
            yield Edit((*path, "routes", index), REMOVE)
            yield Edit((*path, "routes", index, "next-hop"), random.choice(addresses))
        target = random.choice(("0.0.0.0/0", "10.44.0.0/16", "10.44.0.0/24", f"{random.choice(addresses)}/32"))
        if device.kind != "switch" and ":" not in target:
            via = random.choice([one for one in addresses if ":" not in one])
            metric = str(random.choice((1, 1, 5)))
            route = {"destination": target, "next-hop": via, "metric": metric}
            if random.random() < 0.5 and any(one.vrf for one in device.interfaces.values()):
                route["vrf"] = TWIN
            yield Edit((*path, "routes", "+"), route)
    for host in hosts:
        yield _gateway(host, random.choice([one for one in addresses if ":" not in one]))
        other = random.choice(hosts)
        free = _v4(other)._replace(value=_v4(other).prefix.usable()[1] - 1)
        yield _address(host, free)
    a, b = random.choice(hosts), random.choice(hosts)
    yield Edit(("hosts", a.name, "at"), f"{b.at.device}/p{random.randint(60, 90)}")


def designed(brief: Brief) -> Network:
    return design(brief).network


def leasing(network: Network, random: Random) -> Network:
    """The network with hosts that lease their IPv4 address: pools at devices and hosts, and relays, right and wrong."""
    named = any(host.addresses for host in network.hosts.values())
    network = filtered(network, random) if named and random.random() < 0.4 else network
    hosts, pools = dict(network.hosts), {}
    for name, host in network.hosts.items():
        if random.random() < 0.6:
            kept = tuple(address for address in host.addresses if address.version == 6)
            hops = tuple(hop for hop in host.gateway if hop.address.version == 6)
            hosts[name] = replace(host, addresses=kept, gateway=hops, dhcp=True)
    homes = [
        (device.name, part.name, address)
        for device in network.devices.values()
        for part in (*device.ports.values(), *device.interfaces.values())
        for address in part.addresses
        if address.version == 4 and address.length <= 29 and not isinstance(part, Loopback)
    ]
    devices = dict(network.devices)
    able = [name for name, device in devices.items() if device.kind != "switch"]
    able += [name for name, host in hosts.items() if any(a.version == 4 for a in host.addresses)]
    for number, (_, _, address) in enumerate(homes):
        if able and random.random() < 0.8:
            pools.setdefault(random.choice(able), {})[f"pool{number}"] = _pool(number, address, hosts, random)
    held = {
        name: [a.address for a in hosts[name].addresses if a.version == 4]
        if name in hosts
        else [a for device, _, own in homes if device == name for a in [own.address]]
        for name in able
    }
    asked = [address for name in pools for address in held[name]] + [address.address for _, _, address in homes]
    for device, part, _ in homes:
        if devices[device].kind != "switch" and asked and random.random() < 0.7:
            servers = tuple(
                dict.fromkeys(
                    random.choice(asked[: max(1, len(asked) - len(homes))] if random.random() < 0.8 else asked)
                    for _ in range(random.choice((1, 1, 2)))
                )
            )
            _with_relay(devices, device, part, servers)
    for name, own in pools.items():
        if name in devices:
            devices[name] = replace(devices[name], dhcp_pools=own)
        else:
            hosts[name] = replace(hosts[name], dhcp_pools=own)
    return replace(network, devices=devices, hosts=hosts, expect=(), policy=None)


def _pool(number: int, address: InterfaceAddress, hosts: dict[str, Host], random: Random) -> Pool:
    """A pool for about an interface's subnet."""
    subnet = address.prefix if random.random() < 0.9 else address.prefix.supernet(address.prefix.length - 1)
    first, last = subnet.usable()
    ranges = []
    for _ in range(random.choice((1, 1, 2))):
        start = random.randint(first, last)
        ranges.append(AddressRange(Address(4, start), Address(4, min(last, start + random.choice((0, 1, 5, 40))))))
    gateway = random.choice((address.address, address.address, None, Address(4, random.randint(first, last))))
    asking = [name for name, host in hosts.items() if host.dhcp]
    kept = random.sample(asking, min(len(asking), random.choice((0, 0, 1, 2))))
    values = random.sample(range(first, last + 1), len(kept))
    reserved = {name: Address(4, value) for name, value in zip(kept, values, strict=True)}
    return Pool(f"pool{number}", subnet, tuple(ranges), gateway, reservations=reserved)


def _with_relay(devices: dict[str, Device], device: str, part: str, servers: tuple[Address, ...]) -> None:
    old = devices[device]
    if part in old.interfaces:
        interfaces = {**old.interfaces, part: replace(old.interfaces[part], dhcp_relay=servers)}
        devices[device] = replace(old, interfaces=interfaces)
    else:
        devices[device] = replace(old, ports={**old.ports, part: replace(old.ports[part], dhcp_relay=servers)})
