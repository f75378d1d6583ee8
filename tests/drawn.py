"""Sound networks as people draw them by hand, not as `design` makes them: routers on a trunk, a port for each VLAN,
layer 3 switches, separate routing tables, bundled links, transit VLANs, defaults or a route for each subnet."""

from __future__ import annotations

from random import Random
from typing import Any

import yaml

import archipelago
from archipelago import Network

WORDS = "tickets crew cameras yard guests store office signals galley boats gates light".split()  # noqa: SIM905
SITES = ("landing", "holm", "skerry", "inn")


class _Sheet:
    """A document that is drawn: what is free to be used next, and what stands in it so far."""

    def __init__(self, random: Random) -> None:
        self.random = random
        self.six = random.random() < 0.4
        self.words = random.sample(WORDS, len(WORDS))
        self.ids = random.sample(range(110, 900), 40)
        self.blocks = random.sample(range(0, 90), 60)
        self.document: dict[str, Any] = {
            "format": "archipelago-network/1",
            "vlans": {},
            "devices": {},
            "hosts": {},
            "cables": [],
        }
        self.ports: dict[str, int] = {}
        self.subnets: dict[str, list[tuple[str, str]]] = {}  # by routing device: prefix and VLAN
        self.gateways: dict[str, list[str]] = {}  # by VLAN: the gateway's addresses
        self.links: list[tuple[str, str, list[str], list[str]]] = []  # devices, and the addresses of each end

    def chance(self, share: float) -> bool:
        return self.random.random() < share

    def device(self, name: str, kind: str, **keys: Any) -> dict[str, Any]:
        device = {"kind": kind, "ports": {}, "interfaces": {}, **keys}
        self.document["devices"][name] = device
        return device

    def port(self, device: str) -> str:
        self.ports[device] = self.ports.get(device, 0) + 1
        return f"p{self.ports[device]}"

    def cable(self, first: str, second: str) -> None:
        self.document["cables"].append(f"{first} ~ {second}")

    def vlan(self, gateway: str) -> tuple[str, list[str]]:
        """A new VLAN, and the addresses of its gateway with prefix lengths."""
        name, block = self.words.pop(), self.blocks.pop()
        self.document["vlans"][name] = self.ids.pop()
        length = self.random.choice((24, 25, 26))
        last = 2 ** (32 - length) - 2
        place = self.random.choice((1, 1, last, self.random.randint(2, 9)))
        addresses = [f"10.44.{block}.{place}/{length}"]
        self.subnets.setdefault(gateway, []).append((f"10.44.{block}.0/{length}", name))
        if self.six:
            addresses.append(f"2001:db8:44:{block}::1/64")
            self.subnets[gateway].append((f"2001:db8:44:{block}::/64", name))
        self.gateways[name] = [address.split("/")[0] for address in addresses]
        return name, addresses

    def transit(self) -> tuple[list[str], list[str]]:
        block, length = self.blocks.pop(), self.random.choice((30, 31))
        first = 1 if length == 30 else 0
        ends = ([f"10.44.1{block:02}.{first + number}/{length}"] for number in (0, 1))
        made = tuple(ends)
        if self.six:
            for number, end in enumerate(made):
                end.append(f"2001:db8:44:f{block:03}::{number}/127")
        return made[0], made[1]


def drawn(random: Random) -> Network:
    """A sound network: every two hosts reach each other but where a filter or a routing table keeps them apart."""
    sheet = _Sheet(random)
    names = SITES[: random.randint(1, 4)]
    for number, name in enumerate(names):
        _site(sheet, name)
        if number:
            _link(sheet, names[random.randrange(number)], name)
    if sheet.chance(0.5):
        _outside(sheet, names[0])
    _routes(sheet, names)
    _leases(sheet)
    return archipelago.read_network(yaml.safe_dump(sheet.document, sort_keys=False))


def _site(sheet: _Sheet, name: str) -> None:
    """A device that routes and the switches behind it."""
    random = sheet.random
    style = random.choice(("subinterfaces", "subinterfaces", "a port each", "layer 3 switch", "layer 3 switch"))
    routed = style == "layer 3 switch"
    families = ["ipv4", "ipv6"] if sheet.six else ["ipv4"]
    device = sheet.device(name, "l3switch", routing=families) if routed else sheet.device(name, "router")
    vlans = [sheet.vlan(name) for _ in range(random.randint(1, 3))]
    carried = [vlan for vlan, _ in vlans]
    if routed:
        for vlan, addresses in vlans:
            device["interfaces"][random.choice((f"{vlan}-gw", f"vlan{len(vlan)}-{vlan}"))] = {
                "vlan": vlan,
                "address": addresses,
            }
        for vlan in carried:
            if sheet.chance(0.5):
                _hosts(sheet, name, vlan)
        _switches(sheet, name, carried, trunk={"trunk": carried, "untagged": "none"})
    elif style == "subinterfaces":
        parent = sheet.port(name)
        bundled = [parent, sheet.port(name)] if sheet.chance(0.2) else []
        plain = random.choice(carried) if sheet.chance(0.3) else None
        if bundled:
            device["interfaces"]["bundle"] = {"members": bundled, "routed": True}
        for number, (vlan, addresses) in enumerate(vlans):
            tag = sheet.document["vlans"][vlan]
            called = random.choice((f"{parent}.{tag}", f"{parent}.{number + 1}", vlan))
            sub = {"parent": "bundle" if bundled else parent, "tag": vlan, "address": addresses}
            device["interfaces"][called] = {**sub, **({"untagged": True} if vlan == plain else {})}
        trunk = {"trunk": [vlan for vlan in carried if vlan != plain] or carried, "untagged": plain or "none"}
        _switches(sheet, name, carried, trunk=trunk, uplinks=bundled or [parent])
    else:
        switch = f"{name}-floor"
        floor = sheet.device(switch, "switch")
        for vlan, addresses in vlans:
            port, far = sheet.port(name), sheet.port(switch)
            device["ports"][port] = {"address": addresses}
            floor["ports"][far] = {"access": vlan}
            sheet.cable(f"{name}/{port}", f"{switch}/{far}")
            _hosts(sheet, switch, vlan)


def _switches(
    sheet: _Sheet, gateway: str, carried: list[str], trunk: dict[str, Any], uplinks: list[str] | None = None
) -> None:
    """One to three switches in a row behind a device, with hosts of its VLANs."""
    above, near = gateway, uplinks
    for number in range(sheet.random.randint(1, 3)):
        switch = f"{gateway}-{number + 1}"
        device = sheet.device(switch, "switch")
        far = [sheet.port(switch) for _ in near or [""]]
        near = near or [sheet.port(above)]
        if len(far) > 1:
            device["interfaces"]["up"] = {"members": far, **trunk}
        else:
            device["ports"][far[0]] = dict(trunk)
        if sheet.document["devices"][above]["kind"] != "router":
            sheet.document["devices"][above]["ports"][near[0]] = dict(trunk)
        for one, other in zip(near, far, strict=True):
            sheet.cable(f"{above}/{one}", f"{switch}/{other}")
        for vlan in carried:
            if number == 0 or sheet.chance(0.6):
                _hosts(sheet, switch, vlan)
        if sheet.chance(0.5):
            _managed(sheet, switch, sheet.random.choice(carried))
        above, near = switch, None
    if sheet.chance(0.3) and len(carried) > 1:  # a list for each end of the last link, as people write what they mean
        sheet.document["devices"][above]["description"] = "the last of the row"


def _free(sheet: _Sheet, vlan: str) -> list[str]:
    """An address of a VLAN that nobody has, in each family."""
    taken = {str(address).split("/")[0] for address in _addresses(sheet.document)}
    free = []
    for prefix, owner in (pair for pairs in sheet.subnets.values() for pair in pairs):
        if owner == vlan:
            base, length = prefix.split("/")
            start = base if base.endswith("::") else base.rsplit(".", 1)[0] + "."
            free.append(next(f"{start}{n}/{length}" for n in range(10, 45) if f"{start}{n}" not in taken))
    return free


def _addresses(value: Any) -> list[Any]:
    """Every text of a document, for what is taken."""
    if isinstance(value, dict):
        return [text for part in value.values() for text in _addresses(part)]
    if isinstance(value, list):
        return [text for part in value for text in _addresses(part)]
    return [value]


def _hosts(sheet: _Sheet, switch: str, vlan: str) -> None:
    for _ in range(sheet.random.randint(1, 2)):
        port = sheet.port(switch)
        sheet.document["devices"][switch]["ports"][port] = {"access": vlan}
        host = {"at": f"{switch}/{port}", "address": _free(sheet, vlan), "gateway": list(sheet.gateways[vlan])}
        sheet.document["hosts"][f"{vlan}-{len(sheet.document['hosts'])}"] = host


def _managed(sheet: _Sheet, switch: str, vlan: str) -> None:
    device = sheet.document["devices"][switch]
    device["interfaces"]["manage"] = {"vlan": vlan, "address": _free(sheet, vlan)}
    device["gateway"] = list(sheet.gateways[vlan])


def _link(sheet: _Sheet, upper: str, lower: str) -> None:
    """A link between two devices that route: routed ports, bundled ones, a VLAN, or subinterfaces with a tag."""
    random, devices = sheet.random, sheet.document["devices"]
    here, there = sheet.transit()
    kinds = {devices[upper]["kind"], devices[lower]["kind"]}
    style = random.choice(("ports", "ports", "bundle", "vlan"))
    ends = ((upper, here), (lower, there))
    if style == "bundle":
        members = [[sheet.port(name), sheet.port(name)] for name, _ in ends]
        for (name, address), own in zip(ends, members, strict=True):
            devices[name]["interfaces"][f"to-{lower if name == upper else upper}"] = {
                "members": own,
                "address": address,
            }
        for one, other in zip(*members, strict=True):
            sheet.cable(f"{upper}/{one}", f"{lower}/{other}")
    elif style == "vlan" and "l3switch" in kinds:
        vlan = f"link-{lower}"
        sheet.document["vlans"][vlan] = sheet.ids.pop()
        ports = []
        for name, address in ends:
            port = sheet.port(name)
            ports.append(f"{name}/{port}")
            if devices[name]["kind"] == "router":
                devices[name]["interfaces"][f"{port}.9"] = {"parent": port, "tag": vlan, "address": address}
            else:
                devices[name]["ports"][port] = {"trunk": [vlan], "untagged": "none"}
                devices[name]["interfaces"][vlan] = {"vlan": vlan, "address": address}
        sheet.cable(*ports)
    else:
        ports = []
        for name, address in ends:
            port = sheet.port(name)
            devices[name]["ports"][port] = {"address": address}
            ports.append(f"{name}/{port}")
        sheet.cable(*ports)
    plain = [[address.split("/")[0] for address in end] for end in (here, there)]
    sheet.links.append((upper, lower, *plain))


def _outside(sheet: _Sheet, hub: str) -> None:
    """The way outside, translated where the device can and the upstream knows nothing of the network."""
    device = sheet.document["devices"][hub]
    port = sheet.port(hub)
    six = ["2001:db8:ffff::2/64"] if sheet.six else []
    device["ports"][port] = {"address": ["203.0.113.2/30", *six]}
    entry: dict[str, Any] = {"at": f"{hub}/{port}"}
    if device["kind"] == "router" and sheet.chance(0.6):
        whole, halves = ["10.44.0.0/16"], ["10.44.0.0/17", "10.44.128.0/17"]
        device["ports"][port]["source-nat"] = sheet.random.choice((whole, halves))
        entry["routes-back"] = ["2001:db8:44::/48"] if six else "none"
    sheet.document["outside"] = entry
    device["routes"] = [{"destination": "0.0.0.0/0", "next-hop": "203.0.113.1"}]
    if six:
        device["routes"].append({"destination": "::/0", "next-hop": "2001:db8:ffff::1"})


def _routes(sheet: _Sheet, names: tuple[str, ...]) -> None:
    """Towards what is below each link a route for each subnet; towards the rest a default, or a route for each."""
    below: dict[str, list[str]] = {name: [prefix for prefix, _ in sheet.subnets[name]] for name in names}
    for upper, lower, _, _ in reversed(sheet.links):
        below[upper] = [*below[upper], *below[lower]]
    everything = [prefix for pairs in sheet.subnets.values() for prefix, _ in pairs]
    outside = "outside" in sheet.document
    for upper, lower, here, there in sheet.links:
        _towards(sheet, upper, below[lower], there)
        if outside or sheet.chance(0.5):
            _towards(sheet, lower, ["0.0.0.0/0", *(["::/0"] if sheet.six else [])], here)
        else:
            _towards(sheet, lower, [prefix for prefix in everything if prefix not in below[lower]], here)


def _towards(sheet: _Sheet, name: str, destinations: list[str], hops: list[str]) -> None:
    routes = sheet.document["devices"][name].setdefault("routes", [])
    for destination in destinations:
        routes.append({"destination": destination, "next-hop": hops[":" in destination]})


def _leases(sheet: _Sheet) -> None:
    """Some VLANs give their hosts addresses: from their gateway, or from a host that their gateway asks."""
    devices, hosts = sheet.document["devices"], sheet.document["hosts"]
    for name, pairs in sheet.subnets.items():
        for prefix, vlan in pairs:
            if ":" in prefix or not sheet.chance(0.3):
                continue
            users = [host for host in hosts if host.startswith(f"{vlan}-")]
            start = prefix.split("/")[0].rsplit(".", 1)[0]
            pool = {"subnet": prefix, "range": f"{start}.45-{start}.60", "gateway": sheet.gateways[vlan][0]}
            fixed = [host for host in hosts if "dhcp" not in hosts[host]["address"]]
            others = [host for host in fixed if not host.startswith(f"{vlan}-")]
            if sheet.chance(0.5) and others:
                server = hosts[sheet.random.choice(others)]
                server.setdefault("dhcp-pools", {})[vlan] = pool
                holder = _holder(devices[name], sheet.gateways[vlan][0])
                holder["dhcp-relay"] = [server["address"][0].split("/")[0]]
            else:
                devices[name].setdefault("dhcp-pools", {})[vlan] = pool
            for host in users:
                if "dhcp-pools" not in hosts[host] and sheet.chance(0.7):
                    hosts[host]["address"] = ["dhcp", *hosts[host]["address"][1:]]
                    hosts[host]["gateway"] = hosts[host]["gateway"][1:]
                    if not hosts[host]["gateway"]:
                        del hosts[host]["gateway"]


def _holder(device: dict[str, Any], address: str) -> dict[str, Any]:
    for part in (*device["ports"].values(), *device["interfaces"].values()):
        if any(held.split("/")[0] == address for held in part.get("address", ())):
            return part
    raise AssertionError(address)
