"""Why a host has no lease."""

from __future__ import annotations

from archipelago.addressing.values import Address
from archipelago.diagnosis.cut import cut, link_fault, own_fault
from archipelago.diagnosis.faults import leases as faults
from archipelago.diagnosis.faults import switching_loop
from archipelago.diagnosis.interface_down import interface_down
from archipelago.diagnosis.outvoted import astray_from
from archipelago.diagnosis.places import host_end, plugged_vlan
from archipelago.diagnosis.stop import Direction, Stop
from archipelago.knowledge.delivery import Ended
from archipelago.knowledge.devices import Node
from archipelago.knowledge.hearing import Hearing, Listener
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.links import HOST_PORT
from archipelago.model.filters import Probe
from archipelago.model.finding import Finding
from archipelago.model.parts import Host

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
        return faults.serves_itself(host)
    heard = index.knowledge.leases.listeners(node.name)
    for outcome in _ORDER:
        for listener in heard:
            if listener.outcome is outcome:
                found = _because(index, node, listener)
                if found is not None:
                    return found
    return _unheard(index, node, host)


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
        return faults.pool_used_up(index, listener)
    if outcome is Hearing.FILTERED:
        return faults.question_filtered(nodes[listener.device], listener)
    if outcome is Hearing.NO_SERVER:
        return relay_to_nobody(index, listener)
    if outcome is Hearing.ONE_WAY:
        return _one_way(index, node, listener)
    assert listener.asked is not None
    return relayed_stop(index, listener, "out" if outcome is Hearing.NO_WAY else "back")


def relay_to_nobody(index: NetworkIndex, listener: Listener) -> Finding:
    """A relay asks an address that nobody serves at: the relay's setting is wrong, or the server's own address where
    the rest of the server's settings agree with the relay."""
    server = astray_from(index, listener.asked) if listener.asked is not None else None
    return server or faults.relay_to_nobody(index, listener)


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
            where = index.vlan_name(vlan) if vlan is not None else str(nic.name)
            return faults.pool_missing(index, host, where, held, listener.server)
    for held in places:
        if _could_answer(index, held):
            if not held.nic.up:
                return interface_down(index, held)
            own = next(iter(node.nics.values()))
            wrong = cut(index, vlan, (node, own), (held.node, held.nic)) if vlan is not None else []
            if wrong:
                return wrong[0]
    return faults.nobody_hears(index, host, vlan, places)


def _places(index: NetworkIndex, vlan: int | None) -> list[Held]:
    """The addresses that devices and serving hosts have in a VLAN."""
    if vlan is None:
        return []
    held = [holder for holder in index.device_addresses() if holder.address.version == 4]
    found = [holder for holder in held if holder.nic.vlan == vlan]
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
