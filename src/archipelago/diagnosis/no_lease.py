"""Why a host has no lease."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from archipelago.addressing.values import Address, Prefix
from archipelago.diagnosis.cabling import link_fault, own_fault
from archipelago.diagnosis.cut import cut
from archipelago.diagnosis.faults.hosts import vlan_wrong
from archipelago.diagnosis.faults.leases import free_for_pool, merged_ranges, pool_missing, pool_path, serving_addresses
from archipelago.diagnosis.faults.links import not_cabled, switching_loop
from archipelago.diagnosis.faults.words import label, texts
from archipelago.diagnosis.gateway_place import without_pool_gateway
from archipelago.diagnosis.interface_down import interface_down
from archipelago.diagnosis.kind import NEVER, OFTEN, Example, Kind, finding
from archipelago.diagnosis.outvoted import astray_from, outvoted
from archipelago.diagnosis.places import (
    far_end,
    host_attachment,
    host_end,
    hosts_by_vlan,
    nic_path,
    plugged_vlan,
    port_path,
    vlan_of,
)
from archipelago.diagnosis.separated import tag_wrong
from archipelago.diagnosis.stop import Direction, Stop
from archipelago.knowledge.delivery import Ended
from archipelago.knowledge.devices import Node
from archipelago.knowledge.hearing import Hearing, Listener
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.leases import ASKED
from archipelago.knowledge.links import HOST_PORT
from archipelago.knowledge.reasons import DownCause
from archipelago.model.filters import Probe
from archipelago.model.finding import Choice, Edit, Finding
from archipelago.model.leases import AddressRange
from archipelago.model.parts import DEFAULT_VLAN, End, Host, Path
from archipelago.model.problems import listed

QUESTION = Probe("udp", 67)
"""What relays and servers send each other."""


def no_lease(index: NetworkIndex, node: Node) -> Finding:
    """The mistake that leaves a host without a lease.

    Args:
        index: the network.
        node: a host that asks for one.
    """
    own = own_fault(index, node)
    if own is not None:
        return own
    host = index.knowledge.written.hosts[node.name]
    if host.dhcp_pools:
        return serves_itself(host)
    heard = index.knowledge.leases.listeners(node.name)
    for outcome in _ORDER:
        for listener in heard:
            if listener.outcome is outcome:
                found = _because(index, node, listener)
                if found is not None:
                    return found
    return _unheard(index, node, host)


LEASE_OF_SERVER = Kind(
    "lease-of-server",
    "error",
    "a host that serves leases and asks for one",
    "{name} has no address",
    NEVER,
    example=Example("pair", "hosts: {stock: {address: dhcp, gateway: ~}}"),
)


def serves_itself(host: Host) -> Finding:
    """A host that serves and asks."""
    says = f"{host.name} has pools of its own and asks for a lease; servers are reached by addresses of their own"
    mend = f"write the address of {host.name}"
    return finding(LEASE_OF_SERVER, at=host.name, path=("hosts", host.name), says=says, mend=mend, name=host.name)


_ORDER = (
    Hearing.STORM,
    Hearing.OFFERS,
    Hearing.FILTERED,
    Hearing.NO_WAY,
    Hearing.NO_WAY_BACK,
    Hearing.ONE_WAY,
    Hearing.NO_SERVER,
)
"""Which of several outcomes is told: what came nearest to an offer first. A server without a pool for the subnet may be
one for others: what is missing is told where nobody else answers."""


def _because(index: NetworkIndex, node: Node, listener: Listener) -> Finding | None:
    nodes = index.knowledge.nodes
    outcome = listener.outcome
    if outcome is Hearing.STORM:
        loop = index.domains.loop_at((node.name, HOST_PORT))
        return switching_loop(index, loop) if loop is not None else None
    if outcome is Hearing.OFFERS:
        return pool_used_up(index, listener)
    if outcome is Hearing.FILTERED:
        return question_filtered(nodes[listener.device], listener)
    if outcome is Hearing.NO_SERVER:
        return relay_to_nobody(index, listener)
    if outcome is Hearing.ONE_WAY:
        return _one_way(index, node, listener)
    assert listener.asked is not None
    return relayed_stop(index, listener, "out" if outcome is Hearing.NO_WAY else "back")


LEASE_FILTERED = Kind(
    "lease-filtered",
    "error",
    "a filter in the way of a lease",
    "{name} gets no address",
    OFTEN,
    example=Example(
        "leases",
        """
        devices:
          landing:
            interfaces: {p1.30: {filter-in: guests-in}}
            filters: {guests-in: {rules: [{drop: udp, destination-port: 67}], otherwise: accept}}
        """,
    ),
)


def question_filtered(node: Node, listener: Listener) -> Finding:
    """A filter ends what hosts broadcast that have no address yet."""
    refusal = listener.refusal
    assert refusal is not None
    line = {"accept": "udp", "source-port": str(ASKED.source_port), "destination-port": str(ASKED.destination_port)}
    path: Path = ("devices", node.name, "filters", refusal.filter)
    where = f"filter {refusal.filter} at {node.name}/{refusal.interface} (in), {refusal.line_text}"
    says = f"{where}, ends what hosts ask for leases with (udp from port 68 to port 67)"
    told = ", ".join(f"{key}: {value}" for key, value in line.items())
    at = refusal.judged.line
    before = f" before line {at}" if at is not None else ""
    mend = f"put the line {{{told}}}{before} into {refusal.filter} on {node.name}"
    edit = _inserted(node, path, line, at)
    return finding(LEASE_FILTERED, at=node.name, path=path, says=says, mend=mend, edits=(edit,), name="who asks there")


def _inserted(node: Node, path: Path, line: dict[str, str], at: int | None) -> Edit:
    """A line before another (numbers from 1), or after the last."""
    if at is not None:
        return Edit((*path, "rules", f"+{at - 1}"), line)
    filters = getattr(node.written, "filters", {})
    return Edit((*path, "rules", "+"), line) if filters[str(path[3])].rules else Edit((*path, "rules"), [line])


POOL_USED_UP = Kind(
    "pool-used-up",
    "error",
    "a pool with fewer addresses than hosts that ask",
    "{name} gets no address",
    OFTEN,
    example=Example("pair", "hosts: {stock: {dhcp-pools: {guests: {range: 10.44.3.100}}}}"),
)


def pool_used_up(index: NetworkIndex, listener: Listener) -> Finding:
    """Hosts ask for more addresses than the pools that fit have: the last of these gets the next free ones."""
    leases = index.knowledge.leases
    pool = listener.pools[-1]
    waiting = [
        name
        for name, lease in leases.given.items()
        if lease is None and any(_same(other, listener) for other in leases.listeners(name))
    ] or ["a host"]
    path = pool_path(index, listener.server, pool)
    size = sum(part.size for part in pool.ranges)
    many = f"{len(waiting):,} host{'s' * (len(waiting) != 1)}"
    says = f"pool {pool.name} of {listener.server} has given all it has ({size:,} in its range); {many} got none"
    free = free_for_pool(index, pool, len(waiting), listener.never)
    if len(free) < len(waiting):
        mend = f"give {pool.subnet} more room: a shorter prefix for the VLAN, and for the pool"
        return finding(POOL_USED_UP, at=listener.server, path=path, says=says, mend=mend, name=waiting[0])
    ranges = merged_ranges([*pool.ranges, *(AddressRange(address, address) for address in free)])
    mend = f"give pool {pool.name} of {listener.server} the range {', '.join(map(str, ranges))}"
    edits = (Edit((*path, "range"), texts(ranges)),)
    return finding(POOL_USED_UP, at=listener.server, path=path, says=says, mend=mend, edits=edits, name=waiting[0])


def _same(other: Listener, listener: Listener) -> bool:
    return other.outcome is Hearing.OFFERS and other.server == listener.server and other.pools == listener.pools


def relay_to_nobody(index: NetworkIndex, listener: Listener) -> Finding:
    """A relay asks an address that nobody serves at: the relay's setting is wrong, or the server's own address where
    the rest of the server's settings agree with the relay."""
    server = astray_from(index, listener.asked) if listener.asked is not None else None
    return server or relay_nowhere(index, listener)


RELAY_NOWHERE = Kind(
    "relay-nowhere",
    "error",
    "a relay to an address that nobody serves at",
    "{name} gets no address",
    OFTEN,
    example=Example(
        "pair",
        """
        devices:
          core-1:
            interfaces:
              guests-gw: {dhcp-relay: 10.44.4.19}
          core-2:
            interfaces:
              guests-gw: {dhcp-relay: 10.44.4.19}
        """,
    ),
)


def relay_nowhere(index: NetworkIndex, listener: Listener) -> Finding:
    """A relay sends to an address that nobody holds, or whose holder leases nothing."""
    node = index.knowledge.nodes[listener.device]
    nic = node.nics[listener.interface]
    path = (*nic_path((node, nic)), "dhcp-relay")
    holders = index.holders(listener.asked) if listener.asked is not None else ()
    whose = f"{holders[0].node.name} leases nothing" if holders else "nobody holds that address"
    says = f"{node.name}/{nic.name} relays to {listener.asked}, and {whose}"
    own = [Held(node, nic, address) for address in nic.addresses if address.version == 4]
    better = serving_addresses(index, [held.address.address for held in own[:1]])
    better = [address for address in better if address not in nic.dhcp_relay]
    kept = [address for address in nic.dhcp_relay if address != listener.asked]
    if len(better) == 1:
        edits: tuple[Edit, ...] = (Edit(path, texts([*kept, better[0]])),)
        mend = f"let {node.name}/{nic.name} relay to {better[0]} instead"
    elif holders and not better and not kept and own:
        vlan = vlan_of(index, own[0])
        where = index.vlan_name(vlan) if vlan is not None else str(own[0].address.prefix)
        return pool_missing(index, "who asks there", where, own[0], holders[0].node.name)
    elif kept:
        edits, mend = (Edit(path, texts(kept)),), f"do not relay to {listener.asked}"
    else:
        edits, mend = (), "relay to a server that has a pool for this subnet"
    return finding(RELAY_NOWHERE, at=node.name, path=path, says=says, mend=mend, edits=edits, name="who asks there")


def relayed_stop(index: NetworkIndex, listener: Listener, direction: Direction) -> Finding | None:
    """What ends a relayed question, or the answer to it: the same rules as for any packet."""
    ended, asked = listener.ended, listener.asked
    relay = index.knowledge.nodes[listener.device]
    own = next((a.address for a in relay.nics[listener.interface].addresses if a.version == 4), None)
    if ended is None or asked is None or own is None:
        return None
    if direction == "out" and not index.is_held(asked):
        return relay_to_nobody(index, listener)
    # Here, as explaining a packet may take explaining a lease.
    from archipelago.diagnosis.explain import explain

    source, target = (own, asked) if direction == "out" else (asked, own)
    return explain(index, _stop(direction, ended, (source, target)))


def _stop(direction: Direction, ended: Ended, ends: tuple[Address, Address]) -> Stop:
    return Stop(
        direction,
        ended.node,
        ended.reason,
        source=ends[0],
        target=ends[1],
        interface=ended.interface,
        next_hop=ended.next_hop,
        refusal=ended.refusal,
        probe=QUESTION,
    )


def _one_way(index: NetworkIndex, node: Node, listener: Listener) -> Finding | None:
    """The answer, a broadcast, does not get to the host."""
    there = index.knowledge.nodes[listener.device]
    vlan = plugged_vlan(index.knowledge, index.knowledge.written.hosts[node.name])
    nic, own = there.nics[listener.interface], next(iter(node.nics.values()))
    wrong = cut(index, vlan, (node, own), (there, nic)) if vlan is not None else []
    return wrong[0] if wrong else link_fault(index, host_end(node.name))


def _unheard(index: NetworkIndex, node: Node, host: Host) -> Finding:
    """Nobody who could answer hears the host: its VLAN is cut, its relay is missing or down, or no pool is for it."""
    vlan = plugged_vlan(index.knowledge, host)
    fault = link_fault(index, host_end(host.name))
    if fault is not None:
        return fault
    places = _places(index, vlan)
    relayed = [listener for listener in index.knowledge.leases.listeners(host.name) if listener.relay]
    for listener in relayed:  # only those are left whose server has no pool for the subnet
        nic = index.knowledge.nodes[listener.device].nics[listener.interface]
        held = next((held for held in places if held.nic is nic), None)
        if held is not None and listener.server:
            instead = next(outvoted(index, held.node, held.nic, 4), None)
            if instead is not None:
                return instead
            where = index.vlan_name(vlan) if vlan is not None else str(nic.name)
            return pool_missing(index, host.name, where, held, listener.server)
    for held in places:
        if _could_answer(index, held):
            if not held.nic.up:
                return interface_down(index, held)
            own = next(iter(node.nics.values()))
            wrong = cut(index, vlan, (node, own), (held.node, held.nic)) if vlan is not None else []
            if wrong:
                return wrong[0]
    return nobody_hears(index, host, vlan, places)


MOST_NAMED = 3
"""So many VLANs are named that a port could be meant for."""

LEASE_UNHEARD = Kind(
    "lease-unheard",
    "error",
    "a host that nobody hears who leases",
    "{name} gets no address",
    NEVER,
    example=Example(
        "leases",
        """
        vlans: {attic: '50'}
        devices:
          hall:
            ports:
              p8: {access: attic}
        hosts:
          heater: {at: hall/p8, address: dhcp}
        """,
    ),
)


RELAY_MISSING = Kind(
    "relay-missing",
    "error",
    "hosts ask where no relay hears them",
    "{name} gets no address",
    OFTEN,
    example=Example(
        "pair",
        """
        devices:
          core-1:
            interfaces:
              guests-gw: {dhcp-relay: ~}
          core-2:
            interfaces:
              guests-gw: {dhcp-relay: ~}
        """,
    ),
)


def nobody_hears(index: NetworkIndex, host: Host, vlan: int | None, places: Sequence[Held]) -> Finding:
    """Nobody who could answer hears a host: a relay is missing where a server has a pool for the VLAN, or the pool."""
    where = index.vlan_name(vlan) if vlan is not None else f"the VLAN of {host.name}"
    routed = [held for held in places if held.node.can_route and held.nic.up]
    for held in routed:
        servers = serving_addresses(index, [held.address.address])
        servers = [address for address in servers if address not in held.nic.dhcp_relay]
        if servers:
            path = nic_path(held)
            edits = (Edit((*path, "dhcp-relay"), texts([*held.nic.dhcp_relay, servers[0]])),)
            says = f"{where} has no relay that asks {servers[0]}, whose server has a pool for {held.address.prefix}"
            mend = f"let {held.node.name}/{held.nic.name} relay to {servers[0]}"
            return finding(
                RELAY_MISSING, at=held.node.name, path=path, says=says, mend=mend, edits=edits, name=host.name
            )
    for held in routed:
        wrong = next(outvoted(index, held.node, held.nic, 4), None)
        if wrong is not None:
            return wrong
    if routed:
        lacking = pool_missing(index, host.name, where, routed[0], routed[0].node.name)
        return _or_its_port(index, host, vlan, lacking) if vlan is not None else lacking
    missing = None
    if vlan is not None:
        missing = _gateway_astray(index, vlan) or without_pool_gateway(index, index.knowledge.nodes[host.name], vlan)
    return missing or lease_unheard(index, host, vlan, where)


def lease_unheard(index: NetworkIndex, host: Host, vlan: int | None, where: str) -> Finding:
    """A host in a VLAN where nobody leases. Where its port is set to nothing, it belongs in a VLAN of that switch where
    somebody does: in the only one, else a person decides."""
    says = f"{host.name} asks for a lease in {where}, where nobody leases and nobody relays"
    mend = f"give {where} a gateway with a pool, or one that relays to a server"
    unheard = finding(LEASE_UNHEARD, at=host.name, path=("hosts", host.name), says=says, mend=mend, name=host.name)
    port = host_attachment(index.knowledge, host)
    if vlan != DEFAULT_VLAN or port.written.access is not None or port.written.trunk is not None:
        return unheard
    device, path = host.at.device, port_path(index.knowledge, host.at.device, port.name)
    choices = tuple(
        Choice(
            f"make {device}/{port.name} an access port of {index.vlan_key(likely)}",
            (Edit((*path, "access"), index.vlan_key(likely)),),
            f"{host.name} gets an address of {subnet}",
        )
        for likely, subnet in _likely_vlans(index, device)
    )
    unheard = replace(unheard, at=device, path=path, says=f"{says}: nothing is written at {device}/{port.name}")
    if len(choices) == 1:
        return replace(unheard, mend=choices[0].says, edits=choices[0].edits)
    return replace(unheard, mend=f"make {device}/{port.name} an access port of its VLAN", choices=choices)


def _or_its_port(index: NetworkIndex, host: Host, vlan: int, missing: Finding) -> Finding:
    """A missing pool; of the only host that asks in a VLAN whose other hosts have addresses of their own also that its
    port may be set to the wrong VLAN: the document cannot tell which of the two was forgotten."""
    others = [other for other, _ in index.once(hosts_by_vlan).get(vlan, ()) if other.name != host.name]
    port = host_attachment(index.knowledge, host)
    likely = [index.vlan_key(other) for other, _ in _likely_vlans(index, host.at.device) if other != vlan]
    if any(other.dhcp for other in others) or not others or not likely or port.written.trunk is not None:
        return missing
    meant = f"{host.at.device}/{port.name} is meant for a VLAN where others lease ({listed(likely, MOST_NAMED)})"
    return replace(missing, says=f"{missing.says}; or {meant}, as no other host of {index.vlan_name(vlan)} asks")


def _likely_vlans(index: NetworkIndex, device: str) -> Iterator[tuple[int, Prefix]]:
    """The VLANs that a device carries and somebody leases in, each with the subnet there."""
    attachments = index.knowledge.devices[device].attachments.values()
    for vlan in sorted(frozenset().union(*(port.vlans for port in attachments)) - {DEFAULT_VLAN}):
        held = next((held for held in _places(index, vlan) if _could_answer(index, held)), None)
        if held is not None:
            yield vlan, held.address.prefix


def _serves_nobody(index: NetworkIndex, held: Held) -> bool:
    """Whether no host of its VLAN is of the subnet of an address, nor asks there where nobody else would answer."""
    vlan = vlan_of(index, held)
    hosts = [host for host, _ in index.once(hosts_by_vlan).get(vlan or 0, ())]
    if any(held.address.prefix.holds(address) for host in hosts for address in host.addresses):
        return False
    others = (one for one in _places(index, vlan) if one.address.prefix != held.address.prefix)
    return not any(host.dhcp for host in hosts) or any(_could_answer(index, other) for other in others)


def _off(held: Held) -> bool:
    return held.nic.down is not None and held.nic.down.root is DownCause.ADMIN_DOWN


def _gateway_astray(index: NetworkIndex, vlan: int) -> Finding | None:
    """The only interface that leases, or relays, and serves nobody in its VLAN: it is meant for the one whose hosts
    nobody hears, and its tag is wrong, or the port that it is plugged into, or its cable is missing."""
    answering = (held for held in index.device_addresses() if held.node.can_route and _could_answer(index, held))
    idle = [held for held in answering if not _off(held) and _serves_nobody(index, held)]
    if len(idle) != 1:
        return None
    (held,) = idle
    if held.nic.kind == "port" and held.nic.uncabled:
        free = _free_access_ports(index, vlan)
        return not_cabled(index, End(held.node.name, held.nic.name), free[0] if len(free) == 1 else None)
    if vlan_of(index, held) is None:
        return None
    if held.nic.kind in ("subinterface", "vlan"):
        return tag_wrong(index, held, vlan)
    plugged = far_end(index.knowledge, held.node.attachments[held.nic.name])
    return vlan_wrong(index, *plugged, label(held), vlan) if plugged is not None else None


def _free_access_ports(index: NetworkIndex, vlan: int) -> list[End]:
    """The access ports that are set to a VLAN and have nothing plugged in."""
    ends = (End(name, port) for name, ports in index.knowledge.ports.items() for port in ports)
    return [
        end
        for end in ends
        if index.knowledge.links[end].peer is None and index.knowledge.attachment_at(end).written.access == vlan
    ]


def _places(index: NetworkIndex, vlan: int | None) -> list[Held]:
    """The addresses that devices and serving hosts have in a VLAN."""
    if vlan is None:
        return []
    held = [holder for holder in index.device_addresses() if holder.address.version == 4]
    found = [holder for holder in held if vlan_of(index, holder) == vlan]
    for name in index.knowledge.leases.servers:
        host = index.knowledge.written.hosts.get(name)
        if host is not None and plugged_vlan(index.knowledge, host) == vlan:
            server = index.knowledge.nodes[name]
            nic = next(iter(server.nics.values()))
            found += [Held(server, nic, address) for address in nic.addresses if address.version == 4]
    return found


def _could_answer(index: NetworkIndex, held: Held) -> bool:
    """Whether who holds an address relays there, or has a pool for it."""
    pools = index.knowledge.leases.pools_of(held.node.name)
    return bool(held.nic.dhcp_relay) or any(pool.subnet.holds(held.address) for pool in pools.values())
