"""A VLAN that is split: a new one takes some of its hosts."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.changes.renumbered import check_free, routes_alike, subnets_of
from archipelago.errors import QueryError
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.index import NetworkIndex, index_network
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import Device, Host, NextHop, Route, Subinterface, VlanInterface
from archipelago.model.policy import Policy
from archipelago.model.recipe import Split


def split(network: Network, asked: Split) -> Network:
    """The network with a new VLAN beside an old one, carried wherever that is, with its gateways in the same places.

    Raises:
        QueryError: the old VLAN has no gateway, a host is not in it, or a subnet is in use or missing.
    """
    index = index_network(network)
    name = index.vlan_name(asked.vlan)
    old = subnets_of(index, asked.vlan)
    pairs = {}
    for prefix in old:
        new = next((one for one in asked.subnet if one.version == prefix.version), None)
        if new is None:
            raise QueryError(
                f"VLAN {name} has the subnet {prefix}; write one of IPv{prefix.version} for {asked.new}, too"
            )
        check_free(index, new)
        pairs[prefix] = new
    if not pairs:
        raise QueryError(f"VLAN {name} has no gateway anywhere, so the new one would have none")
    plan = _Split(index, asked, pairs)
    hosts = {key: plan.host(host) for key, host in network.hosts.items()}
    devices = {key: plan.device(device) for key, device in network.devices.items()}
    return with_changes(
        network,
        vlans={**network.vlans, asked.new: asked.id},
        devices=devices,
        hosts=hosts,
        policy=_policy(network, asked),
    )


def _policy(network: Network, asked: Split) -> Policy | None:
    """Whatever the policy says of the old VLAN it says of the new one, too."""
    if network.policy is None:
        return None
    old = next((name for name, number in network.vlans.items() if number == asked.vlan), str(asked.vlan))

    def both(ends: tuple[str, ...]) -> tuple[str, ...]:
        return (*ends, asked.new) if old in ends else ends

    rules = (replace(rule, source=both(rule.source), target=both(rule.target)) for rule in network.policy.rules)
    return replace(network.policy, rules=tuple(rules))


class _Split:
    def __init__(self, index: NetworkIndex, asked: Split, pairs: dict[Prefix, Prefix]) -> None:
        self._index, self._asked, self._pairs = index, asked, pairs
        self._taken = set(asked.hosts)
        network = index.network
        self._ports = {(network.hosts[name].at.device, network.hosts[name].at.port) for name in asked.hosts}
        self._next = {new: iter(_free_places(index, old, new)) for old, new in pairs.items()}
        for name in asked.hosts:
            host = network.hosts[name]
            node = index.knowledge.devices[host.at.device]
            attachment = node.attachments.get(host.at.port)
            if attachment is None or attachment.untagged != asked.vlan:
                raise QueryError(f"host {name} is not in VLAN {index.vlan_name(asked.vlan)}, so it cannot leave it")

    def _mapped(self, address: Address) -> Address | None:
        """The address at the same place of the new subnet."""
        for old, new in self._pairs.items():
            if old.holds(address):
                moved = Address(address.version, new.value + address.value - old.value)
                return moved if new.holds(moved) else None
        return None

    def host(self, host: Host) -> Host:
        """A host with the next free addresses of the new subnet, if it moves."""
        if host.name not in self._taken:
            return host
        addresses = []
        for own in host.addresses:
            new = next((new for old, new in self._pairs.items() if old.holds(own.address)), None)
            addresses.append(InterfaceAddress(new.version, next(self._next[new]), new.length) if new else own)
        gateway = tuple(NextHop(self._mapped(hop.address) or hop.address, hop.interface) for hop in host.gateway)
        return replace(host, addresses=tuple(addresses), gateway=gateway)

    def device(self, device: Device) -> Device:
        """A device that has and carries the new VLAN wherever it has the old one."""
        node = self._index.knowledge.devices[device.name]
        ports = {name: self._port(device, name, port) for name, port in device.ports.items()}
        missing = {port for name, port in self._ports if name == device.name} - ports.keys()
        if missing:
            raise QueryError(f"{device.name} says nothing of {', '.join(sorted(missing))}, where a host moves")
        interfaces: dict[str, Any] = {name: self._port(device, name, one) for name, one in device.interfaces.items()}
        for nic in node.nics.values():
            made = self._gateway(device, node, nic, interfaces)
            if made is not None:
                interfaces[made.name] = made
        vlans = device.vlans
        if vlans is not None and self._asked.vlan in vlans:
            vlans = (*vlans, self._asked.id)
        return replace(device, ports=ports, interfaces=interfaces, vlans=vlans, routes=tuple(self._routes(device)))

    def _port(self, device: Device, name: str, port: Any) -> Any:
        trunk = getattr(port, "trunk", None)
        if isinstance(trunk, tuple) and self._asked.vlan in trunk:
            return replace(port, trunk=(*trunk, self._asked.id))
        if (device.name, name) in self._ports:
            return replace(port, access=self._asked.id)
        return port

    def _gateway(self, device: Device, node: Node, nic: Nic, taken: dict[str, Any]) -> Any:
        """An interface in the new VLAN beside one in the old that forwards."""
        if nic.vlan != self._asked.vlan or not node.forwards or nic.kind not in ("subinterface", "vlan"):
            return None
        addresses = []
        for own in nic.addresses:
            moved = self._mapped(own.address)
            new = next((new for old, new in self._pairs.items() if old.holds(own.address)), None)
            if moved is None or new is None:
                raise QueryError(
                    f"{own} at {device.name}/{nic.name} has no place in the new subnet, which is too small"
                )
            addresses.append(InterfaceAddress(moved.version, moved.value, new.length))
        part = device.interfaces[nic.name]
        if not isinstance(part, (Subinterface, VlanInterface)) or part.virtual:
            raise QueryError(f"{device.name}/{nic.name} shares its gateway; split such a VLAN by hand")
        wanted = f"{part.parent}.{self._asked.id}" if isinstance(part, Subinterface) else f"{self._asked.new}-gw"
        name = next(one for one in (wanted, *(f"{wanted}-{n}" for n in range(2, 99))) if one not in taken)
        if isinstance(part, Subinterface):
            return replace(part, name=name, tag=self._asked.id, untagged=False, addresses=tuple(addresses))
        return replace(part, name=name, vlan=self._asked.id, addresses=tuple(addresses))

    def _routes(self, device: Device) -> Iterator[Route]:
        """The routes of a device, those to the old subnets again for the new ones."""
        for route in device.routes:
            yield route
            new = self._pairs.get(route.destination)
            if new is not None:
                yield replace(route, destination=new)
        for old, new in self._pairs.items():
            yield from routes_alike(device.routes, old, new)


def _free_places(index: NetworkIndex, old: Prefix, new: Prefix) -> Iterator[int]:
    """The addresses of the new subnet that no gateway has a twin of."""
    first, last = new.usable()
    held = {
        own.value - old.value
        for node in index.knowledge.devices.values()
        for nic in node.nics.values()
        for own in nic.addresses
        if old.holds(own.address)
    }
    for value in range(first, last + 1):
        if value - new.value not in held:
            yield value
    raise QueryError(f"{new} has no room for the hosts that are to move")
