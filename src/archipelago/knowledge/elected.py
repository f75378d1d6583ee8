"""Who is active in each virtual router, in the steady state (VRRP version 3, RFC 9568): the member that answers for the
shared addresses."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from archipelago.addressing.values import Address, is_link_local
from archipelago.knowledge.devices import Devices, Nic, Node
from archipelago.knowledge.domains import Domain, Domains
from archipelago.knowledge.mac import link_local, virtual_mac
from archipelago.knowledge.routes import DeviceRoutes
from archipelago.knowledge.topology import Layer2Endpoint
from archipelago.model.network import Network
from archipelago.model.parts import Device, End, Loopback
from archipelago.model.projection import Projection
from archipelago.model.virtual import OWNER_PRIORITY, Track, VirtualRouter

READS = Projection(
    Network="devices",
    Device="name ports interfaces routes gateway",
    Port="name virtual",
    Subinterface="name virtual",
    VlanInterface="name virtual",
    Aggregate="name virtual",
    Loopback="name",
    Route="next_hop",
)
"""What the parts in virtual routers are derived from, beside what devices know of themselves, and their routes."""


class Member(NamedTuple):
    """An interface's part in a virtual router. `number` is the place among those of its interface; `priority` what it
    bids, all that is down counted; `primary` the address that it advertises from; `place` where it comes in the
    network. One that is not `up` is no member at the time."""

    device: str
    interface: str
    number: int
    written: VirtualRouter
    priority: int
    primary: Address
    place: int
    up: bool

    @property
    def endpoint(self) -> Layer2Endpoint:
        """Where it speaks."""
        return self.device, self.interface

    @property
    def router(self) -> tuple[int, int]:
        """Which virtual router: its VRID and family, wherever members of it hear each other."""
        return self.written.vrid, self.written.family

    @property
    def mac(self) -> int:
        """The MAC address that goes with the shared addresses (RFC 9568 7.3)."""
        return virtual_mac(*self.router)

    @property
    def owns(self) -> bool:
        """Whether the addresses are its interface's own."""
        return self.priority == OWNER_PRIORITY

    @property
    def rank(self) -> tuple[int, int, int]:
        """What it is compared by, the highest first: its priority, then its primary address (RFC 9568 6.4.3)."""
        return self.priority, self.primary.value, self.place

    def __str__(self) -> str:
        return f"{self.device}/{self.interface}"


def shared_addresses(virtual: VirtualRouter) -> tuple[Address, ...]:
    """What the active member of a virtual router answers for: in IPv6 a link-local address is among them, made from the
    virtual MAC address where none is written (RFC 9568 5.2.9, 7.4)."""
    if virtual.family == 4 or any(is_link_local(address) for address in virtual.addresses):
        return virtual.addresses
    return (*virtual.addresses, link_local(virtual_mac(virtual.vrid, 6)))


def advertised_from(virtual: VirtualRouter) -> Address:
    """The link-local address that an IPv6 virtual router is a gateway by."""
    return next(address for address in shared_addresses(virtual) if is_link_local(address))


def elect(members: Iterable[Member], heard_in: Callable[[Member], Sequence[Hashable]]) -> Iterator[Member]:
    """The active members of one virtual router. Who hears a better one that is active is backup, whoever hears it
    (RFC 9568 6.4.2, 6.4.3).

    Args:
        members: those that are up.
        heard_in: the broadcast domains that what a member sends gets to, its own first.
    """
    covered: set[Hashable] = set()
    for member in sorted(members, key=lambda member: member.rank, reverse=True):
        domains = heard_in(member)
        if domains[0] not in covered:
            covered.update(domains)
            yield member


def shares(device: Device) -> Iterator[tuple[str, tuple[VirtualRouter, ...]]]:
    """The interfaces of a device that are in virtual routers, in the order of its ports, then its interfaces."""
    for part in (*device.ports.values(), *device.interfaces.values()):
        if not isinstance(part, Loopback) and part.virtual:
            yield part.name, part.virtual


def named_as_next_hops(device: Device, members: Iterable[Member]) -> Iterator[tuple[Member, Address]]:
    """The addresses that a device shares and that it names as next hops itself."""
    hops = {hop.address for hop in (*(route.next_hop for route in device.routes), *device.gateway)}
    for member in members:
        for address in shared_addresses(member.written):
            if address in hops:
                yield member, address


class Elected:
    """The virtual routers of a network, each decided where somebody asks.

    Args:
        network: the network as it is written.
        devices: its devices.
        domains: its broadcast domains.
        routes: the routing tables of a device, by which networks are tracked.
        kept: the members of devices that a change has left as they were, by device.
    """

    def __init__(
        self,
        network: Network,
        devices: Devices,
        domains: Domains,
        routes: Callable[[str], DeviceRoutes],
        kept: Mapping[str, tuple[Member, ...]],
    ) -> None:
        self._network = network
        self._devices = devices
        self._domains = domains
        self._routes = routes
        self._members: dict[str, tuple[Member, ...]] = dict(kept)
        self._sharing: list[str] | None = None
        self._by_router: dict[tuple[int, int], list[Member]] | None = None
        self._by_address: dict[Address, list[Member]] | None = None
        self._decided: dict[tuple[Domain, tuple[int, int]], Member | None] = {}

    @property
    def known(self) -> Mapping[str, tuple[Member, ...]]:
        """The members of the devices that were asked for so far."""
        return self._members

    @property
    def any(self) -> bool:
        """Whether there is any virtual router."""
        return bool(self._devices_sharing())

    def members(self, device: str) -> tuple[Member, ...]:
        """The parts that the interfaces of a device have in virtual routers, in their order."""
        members = self._members.get(device)
        if members is None:
            written = self._network.devices.get(device)
            members = tuple(self._members_of(written)) if written is not None and _sharing(written) else ()
            self._members[device] = members
        return members

    def every(self) -> list[Member]:
        """All members, in the order of the network."""
        return [member for name in self._devices_sharing() for member in self.members(name)]

    def naming_themselves(self) -> list[str]:
        """The devices that name an address which they share as a next hop: whether it is their own at the time hangs on
        who is active."""
        devices = self._network.devices
        names = self._devices_sharing()
        return [name for name in names if next(named_as_next_hops(devices[name], self.members(name)), None)]

    def active(self, member: Member) -> bool:
        """Whether a member is the active one where it is."""
        return self.active_beside(member) == member

    def active_beside(self, member: Member) -> Member | None:
        """The active one of a member's virtual router in its broadcast domain; None where it is down, and where all
        hear a better one that does not hear them."""
        domain = self._domains.of(member.endpoint) if member.up else None
        if domain is None:
            return None
        key = domain, member.router
        if key not in self._decided:
            self._decided[key] = self._decide(domain, member.router)
        return self._decided[key]

    def beside(self, member: Member) -> list[Member]:
        """The members that are up in a member's broadcast domain, itself among them, in the order of the network."""
        domain = self._domains.of(member.endpoint) if member.up else None
        if domain is None:
            return []
        return [other for other in self._of_router(member.router) if self._domains.is_within(other.endpoint, domain)]

    @property
    def standing(self) -> list[tuple[Member, bool]]:
        """Who is active, of all members."""
        return [(member, self.active(member)) for member in self.every()]

    def routers(self) -> list[tuple[list[Member], Member | None]]:
        """Each virtual router in each broadcast domain that has a member that is up: those, and the active one."""
        found: dict[tuple[Member, ...], Member | None] = {}
        for member in self.every():
            beside = tuple(self.beside(member))
            if beside and beside not in found:
                found[beside] = self.active_beside(member)
        return [(list(beside), active) for beside, active in found.items()]

    def answering(self, device: str, interface: str) -> list[Member]:
        """The virtual routers that an interface is active in."""
        return [
            member
            for member in self.members(device)
            if member.interface == interface and member.up and self.active(member)
        ]

    def holder_on(self, device: str, vrf: str, address: Address) -> str | None:
        """The interface by which a device answers for a shared address now, in one of its tables."""
        for member in self.members(device):
            if address in shared_addresses(member.written) and member.up:
                nic = self._devices[device].nics[member.interface]
                if nic.vrf == vrf and self.active(member):
                    return member.interface
        return None

    def sharing(self, address: Address) -> list[Member]:
        """The members of virtual routers that have an address, in the order of the network."""
        return self.addresses().get(address, [])

    def addresses(self) -> Mapping[Address, list[Member]]:
        """Every address that members of virtual routers have, with them, in the order of the network."""
        if self._by_address is None:
            by_address: dict[Address, list[Member]] = {}
            for member in self.every():
                for shared in shared_addresses(member.written):
                    by_address.setdefault(shared, []).append(member)
            self._by_address = by_address
        return self._by_address

    def _devices_sharing(self) -> list[str]:
        if self._sharing is None:
            self._sharing = [device.name for device in self._network.devices.values() if _sharing(device)]
        return self._sharing

    def _of_router(self, router: tuple[int, int]) -> list[Member]:
        if self._by_router is None:
            by_router: dict[tuple[int, int], list[Member]] = {}
            for member in self.every():
                if member.up:
                    by_router.setdefault(member.router, []).append(member)
            self._by_router = by_router
        return self._by_router.get(router, [])

    def _decide(self, domain: Domain, router: tuple[int, int]) -> Member | None:
        group = self._of_router(router)
        within = self._domains.is_within
        near = [member for member in group if within(member.endpoint, domain)]
        speaking = [domain]
        if len(near) < len(group):
            speaking = self._domains.heard_from(domain)
            near = [member for member in group if any(within(member.endpoint, one) for one in speaking)]

        def heard_in(member: Member) -> Sequence[Domain]:
            own = next(one for one in speaking if within(member.endpoint, one))
            return self._domains.spread(own)

        return next((member for member in elect(near, heard_in) if within(member.endpoint, domain)), None)

    def _members_of(self, device: Device) -> Iterator[Member]:
        node = self._devices[device.name]
        place = self._devices.number(device.name) << 20
        for interface, written in shares(device):
            nic = node.nics[interface]
            for number, virtual in enumerate(written):
                place += 1
                yield Member(
                    device=device.name,
                    interface=interface,
                    number=number,
                    written=virtual,
                    priority=self._priority(node, nic, virtual),
                    primary=_primary(nic, virtual.family),
                    place=place,
                    up=nic.up,
                )

    def _priority(self, node: Node, nic: Nic, virtual: VirtualRouter) -> int:
        """What a member bids: what is written less all that is down, and at least 1; an owner always as much."""
        own = {address.address for address in nic.addresses}
        if own.issuperset(virtual.addresses):
            return OWNER_PRIORITY
        lost = sum(track.priority_decrement for track in virtual.track if not self.is_there(node, nic, track))
        return max(virtual.priority - lost, 1)

    def is_there(self, node: Node, nic: Nic, track: Track) -> bool:
        """Whether what a member tracks is there: an interface, port or aggregate that is up, or a route in use to
        exactly that network, in the routing table of the interface."""
        if track.network is not None:
            table = self._routes(node.name).tables.get((nic.vrf, track.network.version))
            return table is not None and table.exact(track.network) is not None
        name = track.interface or ""
        if name in node.nics:
            return node.nics[name].up
        if name in node.attachments:
            return node.attachments[name].carrier
        return self._devices.links[End(node.name, name)].carrier


def _sharing(device: Device) -> bool:
    return next(shares(device), None) is not None


def _primary(nic: Nic, family: int) -> Address:
    """The address that an interface advertises from: its first of the family; in IPv6 its link-local one."""
    for address in nic.addresses:
        if address.version == family and (family == 4 or is_link_local(address)):
            return address.address
    return nic.link_local
