"""Who holds which address, and which interfaces belong to a subnet: what is known, by the questions asked of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cached_property
from itertools import chain
from typing import Any, TypeVar

from archipelago.addressing.values import WIDTHS, Address, InterfaceAddress, Prefix, is_link_local
from archipelago.knowledge.delivery import Carrier
from archipelago.knowledge.devices import ROUTING_KINDS, Node, speaks_ipv6
from archipelago.knowledge.domains import Domains
from archipelago.knowledge.forwarding import Sent, decide_own
from archipelago.knowledge.held import Held, TableName
from archipelago.knowledge.known import Knowledge, know
from archipelago.knowledge.links import HOST_PORT, aggregates
from archipelago.knowledge.topology import Layer2Endpoint
from archipelago.knowledge.ways import Ways
from archipelago.model.network import Network, pools_in
from archipelago.model.parts import Aggregate, Device, Host, Route

T = TypeVar("T")
Place = tuple[str, str, InterfaceAddress]
"""An address as it is written: its device or host, its interface, and itself."""

MOST_NAMED = 4
"""More VLANs than these, with ids in a row, are told by the first and the last."""


class NetworkIndex:
    """A network with what is known of it, indexed as far as somebody asks: one question needs little of it."""

    def __init__(self, knowledge: Knowledge) -> None:
        self.knowledge = knowledge
        self._ways: dict[int, Ways] = {}
        self._once: dict[Callable[[NetworkIndex], Any], Any] = {}
        self._gateway_held: dict[Place, Held] = {}
        self._route_numbers: dict[str, dict[int, int]] = {}
        self._home_of: dict[tuple[str, InterfaceAddress], Held | None] = {}
        self._circles: dict[tuple[TableName, Address], tuple[TableName, ...]] = {}
        self._neighbours: dict[tuple[Layer2Endpoint, Address], Held | None] = {}
        self.names: Mapping[int | None, str] = {number: name for name, number in knowledge.written.vlans.items()}

    @property
    def network(self) -> Network:
        """The network, with what hosts have learned."""
        return self.knowledge.network

    @property
    def domains(self) -> Domains:
        """Its broadcast domains."""
        return self.knowledge.domains

    def once(self, derive: Callable[[NetworkIndex], T]) -> T:
        """What a function makes of this index, made once however many ask."""
        if derive not in self._once:
            self._once[derive] = derive(self)
        result: T = self._once[derive]
        return result

    # Who holds what

    def holders(self, address: Address) -> tuple[Held, ...]:
        """Every interface that holds an address, up or down, in the order of the network; a link-local address, too,
        that an interface gives itself and somebody uses as a next hop."""
        own = tuple(map(self.held, self._by_address.get(address, ())))
        return (*own, *self.answering(address)) if self.knowledge.elected.any else own

    def answering(self, address: Address) -> list[Held]:
        """Every interface that answers for an address which it shares with others: the active one in each broadcast
        domain; where none is, those that would, down."""
        elected = self.knowledge.elected
        members = [member for member in elected.sharing(address) if not member.owns]
        active = [member for member in members if elected.active(member)]
        shared: list[Held] = []
        for member in active or [member for member in members if not member.up]:
            node = self.knowledge.devices[member.device]
            nic = node.nics[member.interface]
            within = (own.length for own in nic.addresses if own.prefix.holds(address))
            length = next(within, 64 if address.version == 6 else 32)
            shared.append(Held(node, nic, InterfaceAddress(address.version, address.value, length)))
        return shared

    def shared_addresses(self) -> Iterator[tuple[Address, tuple[Held, ...]]]:
        """Every address that several interfaces hold, with all of them: who answers for a shared one among them, where
        somebody else has it for its own."""
        shared = self.knowledge.elected.addresses()
        for key, places in self._by_address.items():
            if len(places) > 1 or key in shared:
                address = Address(*key)
                holders = self.holders(address)
                if len(holders) > 1:
                    yield address, holders

    def device_addresses(self) -> Iterator[Held]:
        """Every address of every device, in the order of the network."""
        for name, device in self.network.devices.items():
            node = self.knowledge.devices[name]
            for _, interface, address in _written_addresses(device):
                yield Held(node, node.nics[interface], address)

    def is_held(self, address: Address) -> bool:
        """Whether anybody holds an address."""
        return address in self._by_address or bool(self.knowledge.elected.sharing(address))

    def narrower_homes(self, address: InterfaceAddress) -> tuple[tuple[int, int], ...]:
        """The subnets of routing devices within an address's own that hold it, as prefix length and network: addresses
        of one subnet and of the same ones have the same homes."""
        lengths = self._gateways.get(address.version, {})
        if next(iter(lengths), 0) <= address.length:  # the longest comes first
            return ()
        width = WIDTHS[address.version]
        return tuple(
            (length, network)
            for length, networks in lengths.items()
            if length > address.length and (network := address.value >> (width - length)) in networks
        )

    def homes(self, address: Address | InterfaceAddress) -> list[Held]:
        """The addresses of routing devices whose subnet holds this address, longest prefix first."""
        width = WIDTHS[address.version]
        return [
            self._gateway_held.get(place) or self._gateway_held.setdefault(place, self.held(place))
            for length, networks in self._gateways.get(address.version, {}).items()
            for place in networks.get(address.value >> (width - length), ())
        ]

    def homes_in(self, address: Address, vrf: str) -> list[Held]:
        """The homes of an address in one `vrf`; where that has none, in any."""
        holders = self.homes(address)
        return [holder for holder in holders if holder.nic.vrf == vrf] or holders

    def home_of(self, node: Node, address: InterfaceAddress) -> Held | None:
        """The gateway that a host's address calls for: one that shares its broadcast domain if there is one, then one
        in the VLAN of its port, then one that is up; where several share an address, that."""
        key = (node.name, address)
        if key not in self._home_of:
            home = self._find_home(node, address)
            self._home_of[key] = self.as_shared(home) if home is not None else None
        return self._home_of[key]

    def as_shared(self, held: Held) -> Held:
        """What a gateway shares with others in its subnet, at who is active; itself where it shares nothing."""
        elected = self.knowledge.elected
        for member in elected.members(held.node.name):
            addresses = (one for one in member.written.addresses if held.address.prefix.holds(one))
            shared = next(addresses, None)
            if member.interface == held.nic.name and shared is not None and not is_link_local(shared):
                active = elected.active_beside(member) or member
                node = self.knowledge.devices[active.device]
                address = InterfaceAddress(shared.version, shared.value, held.address.length)
                return Held(node, node.nics[active.interface], address)
        return held

    def _find_home(self, node: Node, address: InterfaceAddress) -> Held | None:
        elsewhere = [holder for holder in self.homes(address) if holder.node.name != node.name]
        if len(elsewhere) < 2:
            return elsewhere[0] if elsewhere else None
        endpoints = [(node.name, nic.name) for nic in node.nics.values()]

        plugged = None
        if isinstance(node.written, Host):
            attachment = self.knowledge.attachment_at(node.written.at)
            plugged = attachment.written.access or attachment.untagged

        def order(holder: Held) -> tuple[bool, bool, bool]:
            return (
                not any(self.domains.together(holder.endpoint, endpoint) for endpoint in endpoints),
                plugged is None or holder.nic.vlan != plugged,
                not holder.nic.up,
            )

        return min(elsewhere, key=order)

    def world_of(self, holder: Held) -> str:
        """The routing tables (`vrf`) whose world an address belongs to: a host's that of its gateway's interface."""
        if holder.node.kind in ROUTING_KINDS:
            return holder.nic.vrf
        home = self.home_of(holder.node, holder.address)
        return home.nic.vrf if home is not None else ""

    def routed(self) -> Iterator[Held]:
        """Every address that is there to route."""
        for lengths in self._gateways.values():
            for networks in lengths.values():
                for places in networks.values():
                    yield from map(self.held, places)

    def subnet_peers(self, holder: Held) -> list[Held]:
        """Everyone else whose address says that it is of the same subnet."""
        peers = map(self.held, self._by_prefix.get(holder.address.prefix, ()))
        return [other for other in peers if other.node is not holder.node]

    def subnet_holders(self, prefix: Prefix) -> list[Held]:
        """Everyone whose address says that it is of a subnet."""
        return list(map(self.held, self._by_prefix.get(prefix, ())))

    @cached_property
    def carrier(self) -> Carrier:
        """What carries a packet from station to station, once all hosts are known."""
        return Carrier(
            self.knowledge.state, self.domains, lambda address: [held.endpoint for held in self.holders(address)]
        )

    @cached_property
    def next_hops(self) -> frozenset[Address]:
        """Every address that somebody sends to as a next hop or gateway."""
        network = self.network
        hops = {hop.address for host in network.hosts.values() for hop in host.gateway}
        for device in network.devices.values():
            hops.update(hop.address for hop in device.gateway)
            hops.update(route.next_hop.address for route in device.routes)
        return frozenset(hops)

    @cached_property
    def named_addresses(self) -> frozenset[Address]:
        """Every address that something names: a next hop, a server that relays ask, a name server, a filter."""
        named = set(self.next_hops)
        for device in self.network.devices.values():
            for part in (*device.ports.values(), *device.interfaces.values()):
                named.update(getattr(part, "dhcp_relay", ()))
            for filter_ in device.filters.values():
                for rule in filter_.rules:
                    hosts = (net for net in (*rule.source, *rule.destination) if net.length == WIDTHS[net.version])
                    named.update(Address(net.version, net.value) for net in hosts)
        for pool in pools_in(self.network):
            named.update(pool.dns_server)
        return frozenset(named)

    def in_a_subnet(self, address: Address) -> bool:
        """Whether an address lies in a subnet that anybody has an address of."""
        return any(prefix.holds(address) for prefix in self._by_prefix)

    def held(self, place: Place) -> Held:
        """An address as it is written, with its device or host and its interface."""
        name, interface, address = place
        node = self.knowledge.nodes[name]
        return Held(node, node.nics[interface], address)

    @cached_property
    def written_addresses(self) -> list[Place]:
        """Every address as it is written, in the order of the network."""
        network = self.network
        places = [place for device in network.devices.values() for place in _written_addresses(device)]
        places += [(host.name, HOST_PORT, address) for host in network.hosts.values() for address in host.addresses]
        return places

    @cached_property
    def _by_address(self) -> Mapping[tuple[int, int], list[Place]]:
        by_address: dict[tuple[int, int], list[Place]] = {}
        for place in self.written_addresses:
            version, value, _ = place[2]
            by_address.setdefault((version, value), []).append(place)
        if any(is_link_local(hop) for hop in self.next_hops):
            for node in self.knowledge.nodes.values():
                for nic in node.nics.values():
                    if nic.link_local in self.next_hops and speaks_ipv6(nic):
                        own = InterfaceAddress(*nic.link_local, 64)
                        if own not in nic.addresses:
                            by_address.setdefault(nic.link_local, []).append((node.name, nic.name, own))
        return by_address

    @cached_property
    def _by_prefix(self) -> Mapping[Prefix, list[Place]]:
        by_prefix: dict[Prefix, list[Place]] = {}
        for place in self.written_addresses:
            by_prefix.setdefault(place[2].prefix, []).append(place)
        return by_prefix

    @cached_property
    def _gateways(self) -> Mapping[int, Mapping[int, Mapping[int, list[Place]]]]:
        """The addresses of routing devices by family, prefix length (longest first) and network."""
        gateways: dict[int, dict[int, dict[int, list[Place]]]] = {}
        for device in self.network.devices.values():
            for place in _written_addresses(device) if device.kind in ROUTING_KINDS else ():
                version, value, length = place[2]
                if not is_link_local(place[2]):
                    networks = gateways.setdefault(version, {}).setdefault(length, {})
                    networks.setdefault(value >> (WIDTHS[version] - length), []).append(place)
        return {version: dict(sorted(lengths.items(), reverse=True)) for version, lengths in gateways.items()}

    def route_number(self, name: str, route: Route | None) -> int | None:
        """The place of a static route among its device's, told by identity, as two may be equal; None where it is not
        written there."""
        if name not in self._route_numbers:
            routes = self.network.devices[name].routes
            self._route_numbers[name] = {id(written): number for number, written in enumerate(routes)}
        return self._route_numbers[name].get(id(route))

    # Ways between routing devices

    def ways(self, version: int) -> Ways:
        """The shortest ways between routing tables in an address family."""
        if version not in self._ways:
            self._ways[version] = Ways(self.knowledge, self.homes, version)
        return self._ways[version]

    def neighbour(self, endpoint: Layer2Endpoint, address: Address) -> Held | None:
        """Who answers for an address on the link of an interface; the first written where several do."""
        key = (endpoint, address)
        if key not in self._neighbours:
            together = self.domains.together
            holders = self.holders(address)
            self._neighbours[key] = next((holder for holder in holders if together(endpoint, holder.endpoint)), None)
        return self._neighbours[key]

    def next_table(self, table: TableName, target: Address) -> TableName | None:
        """The routing table that packets for a target get to next from one; None where they leave for no other."""
        decision = decide_own(self.knowledge.state(table[0]), target, table[1])
        if not isinstance(decision, Sent) or decision.route.next_hop is None:
            return None
        holder = self.neighbour((table[0], decision.interface), decision.next_hop)
        return holder.table if holder is not None and target.version in holder.node.forwards else None

    def circle(self, table: TableName, target: Address) -> tuple[TableName, ...]:
        """The routing tables that packets for a target go round between once they have come to one; none where their
        way ends somewhere."""
        trail: dict[TableName, int] = {}
        at: TableName | None = table
        while at is not None and at not in trail and (at, target) not in self._circles:
            trail[at] = len(trail)
            at = self.next_table(at, target)
        tables: tuple[TableName, ...] = ()
        if at is not None:
            tables = tuple(trail)[trail[at] :] if at in trail else self._circles[at, target]
        self._circles.update({(passed, target): tables for passed in trail})
        return tables

    # VLANs as people call them

    def vlan_name(self, vlan: int | None) -> str:
        """A VLAN as people call it: its name and id."""
        return f"{self.names[vlan]} ({vlan})" if vlan in self.names else f"VLAN {vlan}"

    def vlan_list(self, vlans: Iterable[int]) -> str:
        """VLANs in words: their names, of many whose ids follow each other the first and the last."""
        runs: list[list[int]] = []
        for vlan in sorted(vlans):
            if runs and vlan == runs[-1][-1] + 1:
                runs[-1].append(vlan)
            else:
                runs.append([vlan])
        words: list[str] = []
        for run in runs:
            first, last = self.vlan_key(run[0]), self.vlan_key(run[-1])
            words += [f"{first} to {last}"] if len(run) > MOST_NAMED else map(self.vlan_key, run)
        return ", ".join(words)

    def vlan_key(self, vlan: int) -> str:
        """A VLAN as the document writes it."""
        return self.names.get(vlan, str(vlan))


def _written_addresses(device: Device) -> Iterator[Place]:
    """The addresses of a device, in the order of its interfaces: aggregates, ports, then all others."""
    others = [interface for interface in device.interfaces.values() if not isinstance(interface, Aggregate)]
    for part in chain(aggregates(device) if device.interfaces else (), device.ports.values(), others):
        for address in part.addresses:
            yield device.name, part.name, address


def index_network(network: Network, knowledge: Knowledge | None = None) -> NetworkIndex:
    """A network, indexed."""
    return NetworkIndex(knowledge or know(network))
