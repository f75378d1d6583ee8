"""What servers lease: who hears what a host asks, by which relay, what becomes of it, and which address it is given
(DHCP, RFC 2131; relays, RFC 1542)."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from functools import cached_property

from archipelago.addressing.values import Address, InterfaceAddress
from archipelago.knowledge.delivery import Carrier, Ended
from archipelago.knowledge.devices import Devices, Nic, Node
from archipelago.knowledge.domains import Domain, Domains
from archipelago.knowledge.elected import Elected
from archipelago.knowledge.forwarding import ForwardingState, refused
from archipelago.knowledge.header import Header
from archipelago.knowledge.hearing import Hearing, Lease, Listener
from archipelago.knowledge.kept_leases import KeptLeases, Known, Members, Standing, answers_relays, changed_hosts
from archipelago.knowledge.links import HOST_PORT
from archipelago.knowledge.pools import Shop, fitting
from archipelago.knowledge.topology import Layer2Endpoint
from archipelago.model.filters import UDP
from archipelago.model.leases import Pool
from archipelago.model.network import Network
from archipelago.model.parts import Device, Host, Loopback
from archipelago.model.projection import Projection

READS = Projection(
    Network="devices hosts",
    Device="name kind ports interfaces dhcp_pools",
    Port="name dhcp_relay",
    Subinterface="name dhcp_relay",
    VlanInterface="name dhcp_relay",
    Aggregate="name dhcp_relay",
    Loopback="name",
    Host="name at addresses dhcp dhcp_pools",
)
"""What leases are derived from, beside what devices and hosts know of themselves, their routes, and the domains."""
CLIENT_PORT, SERVER_PORT = 68, 67
"""The ports of who asks, and of servers and relays (RFC 2131 4.1)."""
NOBODY, EVERYBODY = Address(4, 0), Address(4, 0xFFFFFFFF)
ASKED = Header(NOBODY, EVERYBODY, UDP, CLIENT_PORT, SERVER_PORT)
"""The header of what a host broadcasts that has no address yet."""


class Leases:
    """The leases of a network, decided together once somebody asks: hosts are served in their order.

    Args:
        network: the network as it is written.
        devices: its devices.
        domains: its broadcast domains.
        elected: who answers for its shared addresses.
        state: what a device, or a host with a written address, decides by.
        kept: what a change left standing.
    """

    def __init__(
        self,
        network: Network,
        devices: Devices,
        domains: Domains,
        elected: Elected,
        state: Callable[[str], ForwardingState],
        kept: KeptLeases | None = None,
    ) -> None:
        self._network = network
        self._devices = devices
        self._domains = domains
        self._elected = elected
        self._state = state
        self._carrier = Carrier(state, domains, self._holders)
        self._held: dict[Address, list[Layer2Endpoint]] | None = None
        self._heard: dict[Domain, tuple[Listener, ...]] = {}
        self._given: dict[str, Lease | None] | None = None
        self._members: Members = {}
        self._serving: dict[Domain, list[str]] | None = None
        self._kept = kept
        self._standing: Standing | None = None

    def without(self, touched: Mapping[str, Node], domains: Iterable[Domain]) -> KeptLeases | None:
        """What was known, once some devices have changed (as they were), and these domains have not."""
        if self._given is None:
            return None
        known = Known(
            heard=self._heard,
            members=self._members,
            given=self._given,
            hosts=self._network.hosts,
            order=self._order,
            offered=self._offered,
            answering=self._answering,
            active=self._elected.standing,
        )
        return KeptLeases(known, touched, frozenset(domains))

    @cached_property
    def _offered(self) -> Mapping[str, Mapping[str, Pool]]:
        """Who leases what."""
        return {name: self.pools_of(name) for name in self.servers}

    def _carry_over(self) -> None:
        """Take up what a change has left standing."""
        kept, self._kept = self._kept, None
        if kept is None:
            return
        before, hosts = kept.before, self._network.hosts
        changed = changed_hosts(before.hosts, hosts)
        if (
            changed is None
            or list(before.offered) != self.servers
            or before.active != self._elected.standing
            or any(answers_relays(before.hosts.get(name), hosts.get(name), self._named) for name in changed)
        ):
            return
        moved = [
            name
            for name in {*before.answering, *self._answering}
            if name in hosts and (name in changed or hosts[name].at.device in kept.touched)
        ]
        self._standing = Standing(kept, self._devices, self._domains, changed, moved)
        self._heard = self._standing.listeners()

    def of(self, host: str) -> Lease | None:
        """What a host was given; None where it asks for nothing, or gets nothing."""
        return self.given.get(host)

    @property
    def decided(self) -> Mapping[str, Lease | None] | None:
        """What each host was given, where that was asked for already."""
        return self._given

    @property
    def given(self) -> Mapping[str, Lease | None]:
        """What each host was given that asks, in their order."""
        if self._given is None:
            self._carry_over()
            self._given = self._decide({}) if self._standing is None else self._decide_again(self._standing)
            self._standing = None
        return self._given

    def listeners(self, host: str) -> tuple[Listener, ...]:
        """Who hears what a host asks, the best first (which of several offers it takes): servers in its own domain,
        then by the order of servers, then of relays."""
        return self._heard_in(self._domains.of((host, HOST_PORT)), host)

    def _heard_in(self, domain: Domain | None, host: str) -> tuple[Listener, ...]:
        if domain is None:
            return ()
        self._carry_over()
        if domain not in self._heard:
            self._heard[domain] = self._listen(domain, (host, HOST_PORT))
        return self._heard[domain]

    @cached_property
    def servers(self) -> list[str]:
        """Who leases addresses, devices before hosts, in their order."""
        hosts = (host.name for host in self._network.hosts.values() if host.dhcp_pools and not host.dhcp)
        return [*(name for name in self._network.devices if self.pools_of(name)), *hosts]

    def pools_of(self, name: str) -> Mapping[str, Pool]:
        """The pools that a device or host serves; a host that leases its own address serves none."""
        device = self._network.devices.get(name)
        if device is not None:
            return device.dhcp_pools if device.kind != "switch" else {}
        host = self._network.hosts[name]
        return {} if host.dhcp else host.dhcp_pools

    # Who is given what

    def shops_before(self, host: str) -> Mapping[str, Shop]:
        """What each server has given when a host's turn comes."""
        shops: dict[str, Shop] = {}
        self._decide(shops, until=host)
        return shops

    def _decide(self, shops: dict[str, Shop], until: str = "") -> dict[str, Lease | None]:
        shops.update({name: Shop(self.pools_of(name)) for name in self.servers})
        given: dict[str, Lease | None] = {}
        members: dict[Domain | None, list[str]] = {}
        for host in self._network.hosts.values():
            if host.name == until:
                return given
            if host.dhcp:
                domain = self._domains.of((host.name, HOST_PORT))
                given[host.name] = self._serve(host, self._heard_in(domain, host.name), shops)
                members.setdefault(domain, []).append(host.name)
        self._members = {domain: tuple(names) for domain, names in members.items()}
        return given

    def _decide_again(self, standing: Standing) -> dict[str, Lease | None]:
        """Decide the leases that a change has to do with; the others are the same objects."""
        hosts, before = self._network.hosts, standing.before
        self._members = standing.members(hosts, self._order)
        undecided = standing.undecided(self._members, self.listeners, self._offered)
        names = {name for domain in (None, *undecided) for name in self._members.get(domain, ())}
        shops = {name: Shop(pools) for name, pools in self._offered.items()}
        again = {
            name: self._serve(hosts[name], self.listeners(name), shops)
            for name in sorted(names, key=self._order.__getitem__)
        }
        asking = [name for own in self._members.values() for name in own]
        given = dict(before.given)
        if len(given) != len(asking) or not given.keys() >= set(asking):
            given = {name: before.given.get(name) for name in sorted(asking, key=self._order.__getitem__)}
        given.update({name: lease for name, lease in again.items() if lease != given[name]})
        return given

    @cached_property
    def _order(self) -> Mapping[str, int]:
        """The place of each host in the network."""
        hosts = self._network.hosts
        known = self._standing.before if self._standing is not None else None
        if known is not None and (known.hosts is hosts or list(known.order) == list(hosts)):
            return known.order
        return {name: number for number, name in enumerate(hosts)}

    def _serve(self, host: Host, listeners: Iterable[Listener], shops: Mapping[str, Shop]) -> Lease | None:
        if host.dhcp_pools:
            return None  # leases of hosts that themselves serve do not exist
        for listener in listeners:
            if listener.outcome is not Hearing.OFFERS:
                continue
            shop = shops[listener.server]
            for pool in listener.pools:
                value = shop.give(pool, host.name, listener.never)
                if value is not None:
                    gateway = pool.gateway if pool.gateway != Address(4, value) else None
                    address = InterfaceAddress(4, value, pool.subnet.length)
                    return Lease(address, gateway, listener.server, pool, listener)
        return None

    # Who hears what

    def _listen(self, domain: Domain, host: Layer2Endpoint) -> tuple[Listener, ...]:
        storm = self._domains.loop_at(host) is not None
        direct: list[tuple[int, Listener]] = []
        relayed: list[tuple[int, Listener]] = []
        order = {name: number for number, name in enumerate(self.servers)}
        for heard in self._domains.spread(domain):
            for name, interface in heard.endpoints:
                if not isinstance(interface, str) or name not in self._devices:
                    continue
                node = self._devices[name]
                nic = node.nics[interface]
                if self.pools_of(name):
                    direct.append((order[name], self._direct(node, nic, domain, storm)))
            relayed += self._relayed(heard, domain, storm, order)
            for name in self._hosts_serving(heard):
                node = self._state(name).node
                direct.append((order[name], self._direct(node, node.nics[HOST_PORT], domain, storm)))
        last = len(order)
        direct.sort(key=lambda pair: pair[0])
        relayed.sort(key=lambda pair: pair[0] if pair[1].server else last)
        return tuple(listener for _, listener in (*direct, *relayed))

    def _direct(self, node: Node, nic: Nic, domain: Domain, storm: bool) -> Listener:
        """A server that hears the question itself."""
        refusal = refused(nic, "in", ASKED)
        own = [address for address in nic.addresses if address.version == 4]
        pools = fitting(self.pools_of(node.name), own)
        outcome = Hearing.OFFERS
        if storm:
            outcome = Hearing.STORM
        elif refusal is not None:
            outcome = Hearing.FILTERED
        elif not pools:
            outcome = Hearing.NO_POOL
        elif not self._answers((node.name, nic.name), domain):
            outcome = Hearing.ONE_WAY
        never = frozenset(address.value for address in own)
        return Listener(
            node.name, nic.name, outcome, node.name, came_in=nic.name, pools=pools, never=never, refusal=refusal
        )

    def _answers(self, endpoint: Layer2Endpoint, domain: Domain) -> bool:
        """Whether a broadcast from an endpoint gets to a domain."""
        start = self._domains.of(endpoint)
        return start is not None and self._domains.loop_at(endpoint) is None and domain in self._domains.spread(start)

    def _relayed(
        self, heard: Domain, domain: Domain, storm: bool, order: Mapping[str, int]
    ) -> Iterator[tuple[int, Listener]]:
        """What relays make of the question, in the order of their devices, on each ports before interfaces."""
        relays: list[tuple[Node, Nic]] = []
        for name in dict.fromkeys(name for name, _ in heard.endpoints):
            if name not in self._devices or not any(_relaying(self._network.devices[name])):
                continue
            node = self._devices[name]
            inside = {interface for device, interface in heard.endpoints if device == name}
            written = self._network.devices[name]
            relays += [
                (node, node.nics[part])
                for part in (*written.ports, *written.interfaces)
                if part in inside and node.nics[part].dhcp_relay
            ]
        for node, nic in relays:
            for listener in self._through(node, nic, domain, storm):
                yield order.get(listener.server, len(order)), listener

    def _through(self, node: Node, nic: Nic, domain: Domain, storm: bool) -> Iterator[Listener]:
        """What becomes of the question by one relay, for each server that it names; two addresses of one server are one
        offer."""
        refusal = refused(nic, "in", ASKED)
        if storm or refusal is not None:
            outcome = Hearing.STORM if storm else Hearing.FILTERED
            yield Listener(node.name, nic.name, outcome, relay=True, refusal=refusal)
            return
        own = next(address.address for address in nic.addresses if address.version == 4)
        offering: set[str] = set()
        for asked in dict.fromkeys(nic.dhcp_relay):
            listener = self._ask(node, nic, own, asked)
            if listener.outcome is Hearing.OFFERS:
                if listener.server in offering:
                    continue
                offering.add(listener.server)
                if not self._answers((node.name, nic.name), domain):
                    listener = Listener(node.name, nic.name, Hearing.ONE_WAY, listener.server, relay=True, asked=asked)
            yield listener

    def _ask(self, node: Node, nic: Nic, own: Address, asked: Address) -> Listener:
        """A question sent on by a relay as unicast from its address, and the answer sent back to it (RFC 1542 4.1)."""

        def heard(outcome: Hearing, server: str = "", ended: Ended | None = None) -> Listener:
            return Listener(node.name, nic.name, outcome, server, relay=True, asked=asked, ended=ended)

        there = self._carrier.carry(node.name, relay_header(own, asked), nic.vrf)
        if isinstance(there, Ended):
            return heard(Hearing.NO_WAY, ended=there)
        pools = self.pools_of(there.node)
        if not pools:
            return heard(Hearing.NO_SERVER)
        able = fitting(pools, [own])
        if not able:
            return heard(Hearing.NO_POOL, there.node)
        server = self._state(there.node)
        vrf = server.node.nics[there.interface].vrf
        back = self._carrier.carry(there.node, relay_header(asked, own), vrf, there.passed)
        if isinstance(back, Ended):
            return heard(Hearing.NO_WAY_BACK, there.node, back)
        if back.node != node.name or node.nics[back.interface].vrf != nic.vrf:
            return heard(Hearing.NO_WAY_BACK, there.node)
        arrived = server.node.nics[there.interface]
        never = {own.value, *(address.value for address in arrived.addresses if address.version == 4)}
        return Listener(
            node.name,
            nic.name,
            Hearing.OFFERS,
            there.node,
            relay=True,
            asked=asked,
            came_in=there.interface,
            pools=able,
            never=frozenset(never),
            passed=frozenset((*there.passed, *back.passed, there.node)),
            crossed=frozenset((*there.crossed, *back.crossed)),
        )

    # Who holds what

    def _holders(self, address: Address) -> Collection[Layer2Endpoint]:
        """Who answers for an address that is written: devices, and the hosts that serve or that a relay names."""
        if self._held is None:
            held: dict[Address, list[Layer2Endpoint]] = {}
            for node in (*self._devices.values(), *(self._state(name).node for name in self._answering)):
                for nic in node.nics.values():
                    for own in nic.addresses if nic.up else ():
                        held.setdefault(own.address, []).append((node.name, nic.name))
            self._held = held
        shared = [member.endpoint for member in self._elected.sharing(address) if self._elected.active(member)]
        return [*self._held.get(address, ()), *shared]

    @cached_property
    def _answering(self) -> list[str]:
        """The hosts that serve, or that a relay names."""
        hosts = (host for host in self._network.hosts.values() if not host.dhcp)
        return [h.name for h in hosts if h.dhcp_pools or any(own.address in self._named for own in h.addresses)]

    @cached_property
    def _named(self) -> set[Address]:
        """The addresses that relays send to."""
        return {asked for node in self._devices.values() for nic in node.nics.values() for asked in nic.dhcp_relay}

    def _hosts_serving(self, domain: Domain) -> list[str]:
        if self._serving is None:
            serving: dict[Domain, list[str]] = {}
            for name in self.servers:
                own = self._domains.of((name, HOST_PORT)) if name not in self._devices else None
                if own is not None:
                    serving.setdefault(own, []).append(name)
            self._serving = serving
        return self._serving.get(domain, [])


def relay_header(source: Address, destination: Address) -> Header:
    """The header of what relays and servers send each other."""
    return Header(source, destination, UDP, SERVER_PORT, SERVER_PORT)


def _relaying(device: Device) -> Iterator[bool]:
    for part in (*device.ports.values(), *device.interfaces.values()):
        if not isinstance(part, Loopback) and part.dhcp_relay:
            yield True
