"""What really runs: a network read from what the operating systems of its devices say of themselves.

A directory has one folder for each device and host, by its name, with what these commands print:

    ip -d -j link                       link.json
    ip -j addr                          addr.json
    ip -j route show table all          route.json
    ip -6 -j route show table all       route6.json     (where there is IPv6)
    bridge -j vlan                      vlan.json       (where there is a bridge)
    sysctl net.ipv4.ip_forward net.ipv6.conf.all.forwarding     forwarding.txt

Who is plugged in where stands in `cables.txt` of the directory (`hall/p1 ~ quay/p12`, one a line), or in a
`neighbours.txt` of each folder, as its neighbours say (IEEE 802.1AB): own port, the other's system name, its port.
`kind.txt` in a folder says what it is where that cannot be seen: router, l3switch, switch or host.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal, cast

from archipelago.addressing.values import InterfaceAddress, Prefix, parse_address, parse_interface_address, parse_prefix
from archipelago.answer import OneLine
from archipelago.errors import AddressError, DocumentError, ModelError, Problem
from archipelago.files.disk import read_beside
from archipelago.files.shape import TEXT_OR_NUMBER, Shape, ShapeError, Whole, shaped
from archipelago.model.network import Network
from archipelago.model.parts import (
    DEFAULT_VLAN,
    USUAL_MTU,
    Aggregate,
    Cable,
    Device,
    End,
    Host,
    Interface,
    Loopback,
    NextHop,
    Port,
    Route,
    Subinterface,
    VlanInterface,
)

KINDS = ("router", "l3switch", "switch", "host")
NOT_READ = "filters, translation, pools of leases, relays and shared gateways are not read: add them by hand"
_NO_PORT = frozenset({"bridge", "bond", "vlan", "dummy", "vrf", "macvlan", "ifb", "sit", "ip6tnl", "tun", "gre"})
"""Kinds of link that are no port that a cable is plugged into."""
_OWN_METRIC = 1000
"""What this program's own scripts add to the metrics of IPv6 routes."""

_VLAN, _OCTETS, _ANY = Whole(1, 4094), Whole(1, 2**31), Whole(0, 2**32 - 1)
_LINKS = [
    {
        "ifname": str,
        "flags?": [str],
        "mtu?": _OCTETS,
        "link?": str,
        "master?": str,
        "linkinfo?": {
            "info_kind?": str,
            "info_data?": {"id?": _VLAN, "table?": _ANY, "stp_state?": _ANY, "priority?": Whole(0, 61440)},
        },
    }
]
_ADDRESSES = [{"ifname?": str, "addr_info?": [{"scope?": str, "local?": str, "prefixlen?": Whole(0, 128)}]}]
_ROUTES = [
    {"dst?": str, "gateway?": str, "dev?": str, "protocol?": str, "type?": str, "metric?": _ANY}
    | {"table?": TEXT_OR_NUMBER, "via?": {"host?": str}}
]
_VLANS = [{"ifname": str, "vlans?": [{"vlan": _VLAN, "vlanEnd?": _VLAN, "flags?": [str]}]}]
"""What is read of what the commands print."""


@dataclass(frozen=True, slots=True, repr=False)
class AsBuilt(OneLine):
    """A network as it was read, and what could not be read, in words."""

    network: Network
    notes: tuple[str, ...]


@dataclass(slots=True, repr=False)
class _Folder(OneLine):
    """What one device or host says of itself."""

    name: str
    links: list[dict[str, Any]]
    addresses: dict[str, tuple[InterfaceAddress, ...]]
    routes: list[dict[str, Any]]
    vlans: dict[str, list[dict[str, Any]]]
    forwards: tuple[int, ...]
    kind: str | None
    notes: list[str] = field(default_factory=list)

    def of_kind(self, kind: str) -> dict[str, dict[str, Any]]:
        """The links of a kind, by name."""
        return {str(link["ifname"]): link for link in self.links if _kind(link) == kind}

    @property
    def ports(self) -> dict[str, dict[str, Any]]:
        """The links that cables are plugged into."""
        found = (one for one in self.links if _kind(one) not in _NO_PORT and "LOOPBACK" not in one["flags"])
        return {str(one["ifname"]): one for one in found}


def read_as_built(directory: str | Path) -> AsBuilt:
    """The network that a directory tells of.

    Args:
        directory: one folder for each device and host.

    Raises:
        DocumentError: a file is missing or is not what the command prints, or it makes no network.
    """
    root = Path(directory)
    folders = [_folder(path) for path in sorted(root.iterdir()) if path.is_dir()] if root.is_dir() else []
    if not folders:
        raise _wrong(root, "there is no folder in it; one for each device is expected, with its link.json")
    cables = [*_cables(root / "cables.txt"), *_neighbours(root, folders)]
    unique = list({frozenset(map(str, cable.ends)): cable for cable in cables}.values())
    hosts = {folder.name for folder in folders if (folder.kind or _looks_like(folder)) == "host"}
    devices: dict[str, Device] = {}
    made: dict[str, Host] = {}
    notes = [NOT_READ]
    for folder in folders:
        at = next((_far(cable, folder.name) for cable in unique if folder.name in _devices_of(cable)), None)
        try:
            if folder.name not in hosts:
                devices[folder.name] = _device(folder)
            elif at is not None:
                made[folder.name] = _host(folder, at)
            else:
                notes.append(f"host {folder.name}: nothing says where it is plugged in; it is left out")
        except (KeyError, TypeError, ValueError, AttributeError, AddressError) as error:
            missing = f"'{error.args[0]}' is missing" if isinstance(error, KeyError) else str(error)
            told = f"these files are not what the commands print: {missing}"
            raise _wrong(root / folder.name, told) from None
    between = tuple(cable for cable in unique if _devices_of(cable) <= devices.keys())
    ids = sorted({vlan for folder in folders for vlan in _ids(folder)} - {DEFAULT_VLAN})
    notes += [f"{folder.name}: {note}" for folder in folders for note in folder.notes]
    try:
        vlans = {f"vlan-{number}": number for number in ids}
        network = Network(title=root.name, vlans=vlans, devices=devices, hosts=made, cables=between)
    except ModelError as error:
        raise DocumentError(str(root), [Problem(0, 0, problem.message) for problem in error.problems]) from None
    return AsBuilt(network, tuple(notes))


# Files


def _folder(path: Path) -> _Folder:
    links = _json(path / "link.json", _LINKS)
    sysctl = read_beside(path / "forwarding.txt") or ""
    on = {4: r"net\.ipv4\.ip_forward\s*=\s*1", 6: r"net\.ipv6\.conf\.all\.forwarding\s*=\s*1"}
    kind = read_beside(path / "kind.txt")
    if kind is not None and kind.strip() not in KINDS:
        raise _wrong(path / "kind.txt", f"'{kind.strip()[:40]}' is no kind; there are: {', '.join(KINDS)}")
    return _Folder(
        name=path.name,
        links=[{"flags": [], "linkinfo": {}, **link} for link in links],
        addresses={one.get("ifname", ""): tuple(_own(path, one)) for one in _json(path / "addr.json", _ADDRESSES)},
        routes=[*_json(path / "route.json", _ROUTES), *_json(path / "route6.json", _ROUTES, may_lack=True)],
        vlans={one["ifname"]: list(_each(one)) for one in _json(path / "vlan.json", _VLANS, may_lack=True)},
        forwards=tuple(version for version, line in on.items() if re.search(line, sysctl)),
        kind=kind.strip() if kind is not None else None,
    )


def _json(path: Path, shape: Shape, *, may_lack: bool = False) -> list[dict[str, Any]]:
    text = read_beside(path)
    if text is None and not may_lack:
        raise _wrong(path, "there is no such file; see the documentation for the commands that print it")
    try:
        told: list[dict[str, Any]] = shaped(json.loads(text or "[]"), shape)
        return told
    except ShapeError as error:
        raise _wrong(path, str(error)) from None
    except (ValueError, RecursionError) as error:
        message = getattr(error, "msg", "a number is too long, or it is nested too deep")
        raise _wrong(path, f"this is not JSON: {message}", getattr(error, "lineno", 0)) from None


def _wrong(path: Path, message: str, line: int = 0) -> DocumentError:
    return DocumentError(str(path), [Problem(line, 1 if line else 0, message)])


def _own(path: Path, told: Mapping[str, Any]) -> Iterator[InterfaceAddress]:
    for one in told.get("addr_info", []):
        if one.get("scope") == "global" and "local" in one:
            try:
                yield parse_interface_address(f"{one['local']}/{one['prefixlen']}")
            except (AddressError, KeyError):
                raise _wrong(path / "addr.json", f"'{one.get('local')}' is no address with a prefix length") from None


def _each(port: Mapping[str, Any]) -> Iterator[dict[str, Any]]:
    """Every VLAN of a port, ranges taken apart."""
    for one in port.get("vlans", []):
        for number in range(one["vlan"], one.get("vlanEnd", one["vlan"]) + 1):
            yield {"vlan": number, "flags": one.get("flags", [])}


def _cables(path: Path) -> Iterator[Cable]:
    for number, line in enumerate((read_beside(path) or "").splitlines(), 1):
        text = line.partition("#")[0].strip()
        ends = [end.strip().partition("/") for end in text.split("~")]
        if text and (len(ends) != 2 or not all(slash and port for _, slash, port in ends)):
            raise _wrong(path, f"'{text[:60]}' is no cable; DEVICE/PORT ~ DEVICE/PORT is expected", number)
        if text:
            (a, _, first), (b, _, second) = ends
            yield Cable(End(a, first), End(b, second))


def _neighbours(root: Path, folders: list[_Folder]) -> Iterator[Cable]:
    for folder in folders:
        path = root / folder.name / "neighbours.txt"
        lines = (read_beside(path) or "").splitlines()
        for number, line in enumerate(lines, 1):
            words = line.partition("#")[0].split()
            if words and len(words) != 3:
                raise _wrong(path, f"'{line[:60]}': own port, system name and its port are expected", number)
            if words:
                yield Cable(End(folder.name, words[0]), End(words[1], words[2]))


# What they tell


def _kind(link: Mapping[str, Any]) -> str:
    return str(link["linkinfo"].get("info_kind", ""))


def _looks_like(folder: _Folder) -> str:
    """What a folder tells of: who has a bridge switches, who forwards or has more than a port routes, else a host."""
    if folder.of_kind("bridge"):
        return "l3switch" if folder.forwards else "switch"
    return "router" if folder.forwards or len(folder.ports) != 1 or folder.of_kind("vlan") else "host"


def _ids(folder: _Folder) -> Iterator[int]:
    yield from (int(one["vlan"]) for vlans in folder.vlans.values() for one in vlans)
    yield from (int(link["linkinfo"]["info_data"]["id"]) for link in folder.of_kind("vlan").values())


def _off(link: Mapping[str, Any]) -> bool:
    return "UP" not in link["flags"]


def _device(folder: _Folder) -> Device:
    kind = cast(Literal["router", "l3switch", "switch"], folder.kind or _looks_like(folder))
    bridges, bonds, tables = folder.of_kind("bridge"), folder.of_kind("bond"), folder.of_kind("vrf")
    members = {name: str(link["master"]) for name, link in folder.ports.items() if link.get("master") in bonds}
    ports: dict[str, Port] = {}
    for name, link in folder.ports.items():
        settings = {} if name in members else _settings(folder, name, link, bridges, tables) | {"mtu": _mtu(link)}
        ports[name] = Port(name, **{"off": _off(link), **settings})
    interfaces: dict[str, Interface] = {}
    for name, link in bonds.items():
        own = tuple(member for member, bond in members.items() if bond == name)
        settings = {"off": _off(link), **_settings(folder, name, link, bridges, tables), "mtu": _mtu(link)}
        interfaces[name] = Aggregate(name, own, **settings)
    for name, link in folder.of_kind("vlan").items():
        interfaces[name] = _tagged(folder, name, link, bridges, tables)
    for name, link in {**folder.of_kind("dummy"), "lo": {"flags": ["UP"], "linkinfo": {}}}.items():
        if folder.addresses.get(name):
            interfaces[name] = Loopback(name, folder.addresses[name], _off(link), _vrf(link, tables))
    for name in bridges:
        if folder.addresses.get(name):
            vlan = next(
                (int(one["vlan"]) for one in folder.vlans.get(name, []) if "PVID" in one["flags"]), DEFAULT_VLAN
            )
            interfaces[name] = VlanInterface(name, vlan, folder.addresses[name], _off(bridges[name]))
    routes, gateways = _routes(folder, tables)
    return Device(
        folder.name,
        kind,
        routing=None if kind == "switch" else folder.forwards,
        ports=ports,
        interfaces=interfaces,
        routes=tuple(routes),
        gateway=tuple(gateways),
        spanning_tree=any(one["linkinfo"]["info_data"].get("stp_state") for one in bridges.values()) or not bridges,
        bridge_priority=_priority(bridges),
    )


def _priority(bridges: Mapping[str, Mapping[str, Any]]) -> int | None:
    for bridge in bridges.values():
        if bridge["linkinfo"]["info_data"].get("stp_state"):
            return int(bridge["linkinfo"]["info_data"]["priority"])
    return None


def _vrf(link: Mapping[str, Any], tables: Mapping[str, Any]) -> str | None:
    return str(link["master"]) if link.get("master") in tables else None


def _mtu(link: Mapping[str, Any], usual: int = USUAL_MTU) -> int | None:
    """The packet size of an interface, where it is not the usual one."""
    mtu = int(link.get("mtu", usual))
    return None if mtu == usual else mtu


def _settings(
    folder: _Folder, name: str, link: Mapping[str, Any], bridges: Mapping[str, Any], tables: Mapping[str, Any]
) -> dict[str, Any]:
    """The keys of a port or an aggregate: how it is switched, or its addresses."""
    if link.get("master") not in bridges:
        return {"addresses": folder.addresses.get(name, ()), "vrf": _vrf(link, tables)}
    carried = folder.vlans.get(name, [])
    untagged = [int(one["vlan"]) for one in carried if "PVID" in one["flags"]]
    if any(("PVID" in one["flags"]) != ("Egress Untagged" in one["flags"]) for one in carried):
        folder.notes.append(f"port {name} sends another VLAN untagged than it takes untagged frames to be in")
    if not carried:
        folder.notes.append(f"port {name} carries no VLAN; it is written as off")
        return {"off": True}
    if len(carried) == 1 and untagged:
        return {"access": untagged[0]}
    vlans = tuple(int(one["vlan"]) for one in carried)
    return {"trunk": vlans, "untagged": untagged[0] if untagged else "none"}


def _tagged(
    folder: _Folder, name: str, link: Mapping[str, Any], bridges: Mapping[str, Any], tables: Mapping[str, Any]
) -> Interface:
    number, addresses = int(link["linkinfo"]["info_data"]["id"]), folder.addresses.get(name, ())
    vrf = _vrf(link, tables)
    if link.get("link") in bridges:
        return VlanInterface(name, number, addresses, _off(link), vrf, mtu=_mtu(link))
    parent = str(link.get("link"))
    usual = next((int(one.get("mtu", USUAL_MTU)) for one in folder.links if one["ifname"] == parent), USUAL_MTU)
    made = Subinterface(name, parent, number, addresses=addresses, off=_off(link), vrf=vrf)
    return replace(made, mtu=_mtu(link, usual))


def _routes(folder: _Folder, tables: Mapping[str, Any]) -> tuple[list[Route], list[NextHop]]:
    """Static routes, and a default where the device does not forward."""
    numbers = {str(link["linkinfo"]["info_data"]["table"]): name for name, link in tables.items()}
    routes, gateways = [], []
    for told in folder.routes:
        table = str(told.get("table", "main"))
        if told.get("protocol") == "kernel" or told.get("type", "unicast") != "unicast" or table == "local":
            continue
        gateway = told.get("gateway") or told.get("via", {}).get("host")
        if gateway is None:
            folder.notes.append(f"the route to {told.get('dst')} through {told.get('dev')} names no next hop; left out")
            continue
        address = parse_address(str(gateway))
        zone = str(told["dev"]) if str(gateway).lower().startswith("fe80") else None
        hop = NextHop(address, zone)
        destination = _destination(str(told["dst"]), address.version)
        vrf = table if table in tables else numbers.get(table)
        if destination.length == 0 and address.version not in folder.forwards and vrf is None:
            gateways.append(hop)
        else:
            routes.append(Route(destination, hop, _metric(int(told.get("metric", 0)), address.version), vrf))
    return routes, gateways


def _destination(text: str, version: int) -> Prefix:
    if text == "default":
        return Prefix(version, 0, 0)
    return parse_prefix(text if "/" in text else f"{text}/{32 if version == 4 else 128}")


def _metric(told: int, version: int) -> int:
    """A metric as a document has it: the kernel's own defaults are 1."""
    if version == 6:
        return 1 if told == 1024 else told - _OWN_METRIC if told > _OWN_METRIC else max(told, 1)
    return max(told, 1)


def _host(folder: _Folder, at: End) -> Host:
    name, link = next(iter(folder.ports.items()), ("", {"flags": [], "linkinfo": {}}))
    _, gateways = _routes(folder, {})
    addresses = folder.addresses.get(name, ())
    return Host(folder.name, at, addresses, tuple(gateways), _off(link), mtu=_mtu(link))


def _devices_of(cable: Cable) -> set[str]:
    return {end.device for end in cable.ends}


def _far(cable: Cable, name: str) -> End:
    return cable.b if cable.a.device == name else cable.a
