"""What a person enters at devices and hosts, in plain words, complete, in the order in which devices take it: VLANs,
then filters, ports, what sits on them, what leases and routes; what goes, last.

It is worked out of two documents' data, so that every key that differs is told: with words of its own here, else as the
key and its value.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from archipelago.addressing.values import mask_text, parse_interface_address
from archipelago.files.emit import inline
from archipelago.files.write import document_of
from archipelago.knowledge.devices import Node
from archipelago.knowledge.known import know
from archipelago.model.network import Network
from archipelago.model.parts import DEFAULT_VLAN, Device, Host
from archipelago.model.problems import folded

Section = Mapping[str, Any]
PERMANENT = "make it permanent: save the settings, so that they outlast a restart"
MOST_APART = 12
"""More VLANs than these are one thing to enter."""
_NOTHING: Section = {}
_NOT_ENTERED = ("kind", "console")
"""What a device is, and how it is reached: nobody enters it."""


class Entered(NamedTuple):
    """What to enter at each device and each host that has something, an item for each thing, the lines of an item apart
    by line ends; and which cables to plug in and unplug."""

    devices: dict[str, tuple[str, ...]]
    hosts: dict[str, tuple[str, ...]]
    cables: tuple[str, ...]


def entered(old: Network, new: Network) -> Entered:
    """What to enter to make one network of another.

    Args:
        old: the network that runs.
        new: the network that is wanted.
    """
    before, after = document_of(old), document_of(new)
    knowledge = know(old), know(new)
    devices: dict[str, tuple[str, ...]] = {}
    for name in {**_group(before, "devices"), **_group(after, "devices")}:
        sections = [_group(document, "devices").get(name, _NOTHING) for document in (before, after)]
        if sections[0] != sections[1] or (old.vlans, old.suspended) != (new.vlans, new.suspended):
            device = _Device(new.vlans, *(known.devices.get(name) for known in knowledge))
            devices[name] = tuple(device.lines(*sections))
    hosts: dict[str, tuple[str, ...]] = {}
    for name in {**_group(before, "hosts"), **_group(after, "hosts")}:
        own = [_group(document, "hosts").get(name) for document in (before, after)]
        hosts[name] = tuple(_host(new, name, *own)) if own[0] != own[1] else ()
    cables = tuple(_cables(before.get("cables", []), after.get("cables", [])))
    return Entered(_filled(devices), _filled(hosts), cables)


def _filled(told: Mapping[str, tuple[str, ...]]) -> dict[str, tuple[str, ...]]:
    return {name: items for name, items in told.items() if items}


def _group(section: Section, key: str) -> dict[str, Any]:
    return section.get(key) or {}


class _Device:
    """What to enter at one device."""

    def __init__(self, catalogue: Mapping[str, int], before: Node | None, after: Node | None) -> None:
        self._catalogue = catalogue
        self._names = {number: name for name, number in catalogue.items()}
        self._before, self._after = before, after

    def lines(self, old: Section, new: Section) -> Iterator[str]:
        """Everything, in order."""
        if self._after is None:
            yield "take the device away"
            return
        yield from self._vlans()
        for table in sorted(_tables(new) - _tables(old)):
            yield f"create the routing table {table}"
        yield from self._filters()
        yield from self._forwarding()
        told = (
            "routing",
            "vlans",
            "suspended-vlans",
            "gateway",
            "routes",
            "ports",
            "interfaces",
            "filters",
            "dhcp-pools",
            *_NOT_ENTERED,
        )
        for key, text in self._differing(_less(old, told), _less(new, told)):
            yield _headed("this device", [text]) if key == "off" else text
        was, now = _group(old, "interfaces"), _group(new, "interfaces")
        aggregates = [name for name, section in now.items() if "members" in section]
        yield from self._sections(aggregates, was, now)
        yield from self._ports(_group(old, "ports"), _group(new, "ports"), parents(now))
        yield from self._sections([name for name in now if name not in aggregates], was, now)
        yield from self._pools(_group(old, "dhcp-pools"), _group(new, "dhcp-pools"))
        yield from self._routes(old, new)
        for word, group in (("interfaces", "interface"), ("ports", "settings of port")):
            for name in _group(old, word).keys() - _group(new, word).keys():
                yield f"remove {group} {name}"
        for name in _group(old, "filters").keys() - _group(new, "filters").keys():
            yield f"remove filter {name}"
        for table in sorted(_tables(old) - _tables(new)):
            yield f"remove the routing table {table}"

    # VLANs

    def _vlans(self) -> Iterator[str]:
        assert self._after is not None
        was, had = frozenset((DEFAULT_VLAN,)), frozenset[int]()
        if self._before is not None:
            was, had = self._before.vlans | self._before.suspended, self._before.suspended
        now, suspended = self._after.vlans | self._after.suspended, self._after.suspended
        if not now:
            return
        made = [self._vlan(vlan) for vlan in sorted(now - was)]
        if len(made) > MOST_APART:
            yield _headed(f"create {len(made)} VLANs", made, "\n")
        else:
            yield from (f"create {vlan}" for vlan in made)
        yield from (f"suspend {self._vlan(vlan)}" for vlan in sorted(suspended - had))
        yield from (f"let {self._vlan(vlan)} pass again" for vlan in sorted((had - suspended) & now))
        for vlan in sorted(was - now):
            yield f"delete VLAN {vlan}"

    def _vlan(self, vlan: Any) -> str:
        """A VLAN by its id and name, of either."""
        number = self._catalogue.get(vlan, vlan)
        number = int(number) if str(number).isdigit() else number
        return f"VLAN {number} ({self._names[number]})" if number in self._names else f"VLAN {number}"

    # Filters

    def _filters(self) -> Iterator[str]:
        devices = [node.written if node is not None else None for node in (self._before, self._after)]
        was, now = (device.filters if isinstance(device, Device) else {} for device in devices)
        for name, own in now.items():
            if was.get(name) == own:
                continue
            rules = [f"{number}. {rule.text()}" for number, rule in enumerate(own.rules, 1)]
            last = f"{'otherwise' if rules else 'everything'}: {own.otherwise}"
            known = ["what belongs to a conversation that it knows passes"] if own.stateful else []
            yield _headed(f"filter {name}", [*known, *rules, last], "\n")

    # Ports and interfaces

    def _ports(self, old: Section, new: Section, carrying: set[str]) -> Iterator[str]:
        """Ports with equal settings together."""
        groups: dict[tuple[str, ...], list[str]] = {}
        for name, section in new.items():
            texts = [text for _, text in self._differing(old.get(name) or _NOTHING, section or _NOTHING)]
            if name in carrying and not texts and name not in old:
                texts = ["switch it on; its subinterfaces have the addresses"]
            if texts:
                groups.setdefault(tuple(texts), []).append(name)
        for settings, names in groups.items():
            yield _headed(f"port{'s' * (len(names) > 1)} {folded(names)}", settings)

    def _sections(self, names: list[str], old: Section, new: Section) -> Iterator[str]:
        for name in names:
            before, after = old.get(name) or _NOTHING, new[name]
            texts = [text for _, text in self._differing(before, after)]
            if texts:
                yield _headed(f"{_sort(after)} {name}", texts)

    def _differing(self, old: Section, new: Section) -> Iterator[tuple[str, str]]:
        """Each key that differs, in words."""
        for key, value in new.items():
            if old.get(key) != value:
                yield key, self._words(key, value)
        for key, value in old.items():
            if key not in new:
                yield key, "switch it on" if key == "off" else f"no longer: {self._words(key, value)}"

    def _words(self, key: str, value: Any) -> str:
        """A key and its value, in words."""
        if key in ("access", "vlan", "tag"):
            lead = {"access": "access port in", "vlan": "for", "tag": "takes frames tagged"}[key]
            return f"{lead} {self._vlan(value)}"
        if key == "trunk":
            listed = "all VLANs" if value == "all" else ", ".join(map(self._vlan, _listed(value))) or "no VLAN"
            return f"trunk, tagged: {listed}"
        if key == "untagged" and value in (True, "true", "yes"):
            return "its frames are untagged"
        if key == "untagged":
            return f"untagged: {'no VLAN' if value == 'none' else self._vlan(value)}"
        words = _WORDS.get(key)
        return words(value) if words is not None else f"{key}: {_text(value)}"

    # Forwarding, leases, routes

    def _forwarding(self) -> Iterator[str]:
        was = self._before.forwards if self._before is not None else frozenset()
        assert self._after is not None
        for version in (4, 6):
            if (version in was) != (version in self._after.forwards):
                yield f"forwarding of IPv{version}: {'on' if version in self._after.forwards else 'off'}"

    def _pools(self, old: Section, new: Section) -> Iterator[str]:
        for name, section in new.items():
            if old.get(name) != section:
                kept = section.get("reservations", {})
                texts = [f"{key}: {_text(value)}" for key, value in section.items() if key != "reservations"]
                texts += [f"keep {address} for {host}" for host, address in kept.items()]
                yield _headed(f"pool {name}", texts, "\n")
        for name in old.keys() - new.keys():
            yield f"remove pool {name}"

    def _routes(self, old: Section, new: Section) -> Iterator[str]:
        was, now = ([_route(route) for route in _listed(section.get("routes", []))] for section in (old, new))
        for route in now:
            if route not in was:
                yield f"route {route}"
        for route in was:
            if route not in now:
                yield f"remove route {route}"
        if was != now and sorted(was) == sorted(now):
            yield _headed("enter the routes anew, in this order, since of equal ones the first is used", now, "\n")
        if old.get("gateway") != new.get("gateway"):
            gateways = ", ".join(_listed(new.get("gateway", [])))
            yield f"gateway for its own traffic: {gateways or 'none'}"


def parents(interfaces: Section) -> set[str]:
    """The ports that subinterfaces are parts of."""
    return {str(section["parent"]) for section in interfaces.values() if "parent" in section}


def _sort(section: Section) -> str:
    sorts = {"parent": "subinterface", "vlan": "VLAN interface", "members": "aggregate", "loopback": "loopback"}
    return next(word for key, word in sorts.items() if key in section)


def _less(section: Section, keys: Iterable[str]) -> Section:
    return {key: value for key, value in section.items() if key not in keys}


def _tables(section: Section) -> set[str]:
    """The routing tables beside the main one that interfaces and routes of a device name."""
    parts = [*_group(section, "ports").values(), *_group(section, "interfaces").values(), *section.get("routes", [])]
    return {str(part["vrf"]) for part in parts if part and "vrf" in part}


def _listed(value: Any) -> list[Any]:
    return value if isinstance(value, list) else [value]


def _text(value: Any) -> str:
    if value is True:
        return "yes"
    listed = isinstance(value, list) and not any(isinstance(entry, (dict, list)) for entry in value)
    return ", ".join(map(str, value)) if listed else inline(value).strip("{}")


def _headed(head: str, texts: Iterable[str], between: str = "; ") -> str:
    """A thing to enter: its name and what of it, on one line or a line each."""
    return f"{head}:{between if between == chr(10) else ' '}{between.join(texts)}"


def _address(text: str) -> str:
    """An address with its mask in both forms; IPv6 has one."""
    if ":" in str(text) or "/" not in str(text):
        return str(text)
    return f"{text} (mask {mask_text(parse_interface_address(str(text)).prefix)})"


def _route(route: Section) -> str:
    metric = f", metric {route['metric']}" if "metric" in route else ""
    table = f", in the routing table {route['vrf']}" if "vrf" in route else ""
    mask = _address(str(route["destination"]))
    return f"to {mask} by next hop {route['next-hop']}{metric}{table}"


def _virtual(value: Any) -> str:
    told = []
    for section in _listed(value):
        rest = [f"{key} {_text(own)}" for key, own in section.items() if key not in ("vrid", "address")]
        shared = f"shares {_text(section['address'])} by VRRP, VRID {section['vrid']}"
        told.append(", ".join([shared, *rest]))
    return "; ".join(told)


_WORDS: Mapping[str, Callable[[Any], str]] = {
    "address": lambda value: f"address {', '.join(map(_address, _listed(value)))}",
    "parent": lambda value: f"part of {value}",
    "members": lambda value: f"of the ports {folded(_listed(value))}",
    "routed": lambda value: "routed port, not switched",
    "off": lambda value: "switch it off",
    "vrf": lambda value: f"in the routing table {value}",
    "speed": lambda value: f"speed {value}",
    "mtu": lambda value: f"largest packet {value} octets",
    "dhcp-relay": lambda value: f"relay what hosts ask for leases to {_text(value)}",
    "filter-in": lambda value: f"filter {value} for what comes in",
    "filter-out": lambda value: f"filter {value} for what goes out",
    "source-nat": lambda value: f"translate the source addresses of {_text(value)} to its own",
    "path-cost": lambda value: f"spanning tree: cost {value}",
    "edge": lambda value: "spanning tree: edge, no bridge behind it",
    "spanning-tree": lambda value: f"spanning tree: {value}",
    "bridge-priority": lambda value: f"spanning tree: bridge priority {value}",
    "virtual": _virtual,
}


# Hosts and cables


def _host(network: Network, name: str, old: Section | None, new: Section | None) -> Iterator[str]:
    if new is None:
        yield "take it away"
        return
    old = old if old is not None else _NOTHING
    if old.get("at") != new.get("at"):
        yield f"plug it into {new['at']}"
    if (old.get("address"), old.get("gateway")) != (new.get("address"), new.get("gateway")):
        texts = [_host_address(text) for text in _listed(new.get("address", []))]
        gateways = _listed(new.get("gateway", []))
        texts += [f"gateway {', '.join(map(str, gateways))}"] if gateways else []
        servers = _name_servers(network, name)
        texts += [f"name server {', '.join(servers)}"] if servers else []
        yield "; ".join(texts) or "no address"
    for key in {**old, **new}:
        if key not in ("at", "address", "gateway") and old.get(key) != new.get(key):
            words = _WORDS.get(key)
            if key in new:
                yield words(new[key]) if words is not None else f"{key}: {_text(new[key])}"
            else:
                yield "switch it on" if key == "off" else f"no longer {key}"


def _host_address(text: str) -> str:
    words = {"dhcp": "IPv4: automatic (DHCP)", "auto": "IPv6: automatic"}
    address, _, length = str(text).partition("/")
    if text in words:
        return words[text]
    return f"address {address}, prefix length {length}" if ":" in address else f"address {_address(text)}"


def _name_servers(network: Network, name: str) -> list[str]:
    """The name servers that pools of a host's subnets give; it is told them where it does not lease."""
    host = network.hosts[name]
    servers: tuple[Device | Host, ...] = (*network.devices.values(), *network.hosts.values())
    pools = [pool for server in servers for pool in server.dhcp_pools.values()]
    served = (pool for pool in pools if any(pool.subnet.holds(own.address) for own in host.addresses))
    return list(dict.fromkeys(str(server) for pool in served for server in pool.dns_server))


def _cables(old: Any, new: Any) -> Iterator[str]:
    was, now = ([entry if isinstance(entry, str) else inline(entry) for entry in _listed(side)] for side in (old, new))
    yield from (f"plug in {cable}" for cable in now if cable not in was)
    yield from (f"unplug {cable}" for cable in was if cable not in now)
