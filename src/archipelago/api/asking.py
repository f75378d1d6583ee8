"""Questions to the simulation: does it get there, by which way, who hears it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from archipelago.api.arguments import checked

if TYPE_CHECKING:
    from archipelago.addressing.values import Address
    from archipelago.knowledge.devices import Node
    from archipelago.knowledge.index import NetworkIndex
    from archipelago.model.filters import Probe
    from archipelago.model.network import Network
    from archipelago.simulation.build import Simulation
    from archipelago.simulation.explore import Broadcast, Trace
    from archipelago.simulation.in_order import AllInOrder, InOrder
    from archipelago.simulation.lease import LeaseResult
    from archipelago.simulation.reach import ReachResult

    Ends = list[tuple[Node, Node | Address]]


PROBES = 5
"""So many probes are sent at least, where nobody says."""


@checked
def reach(
    network: Network,
    source: str,
    target: str,
    *,
    probes: int = PROBES,
    family: int | None = None,
    probe: str = "icmp",
    without: Sequence[str] = (),
    move: Sequence[str] = (),
) -> ReachResult:
    """Ask whether a probe gets from one end to the other and back, frame by frame, from cold tables.

    Args:
        network: the network.
        source: a host, a device, DEVICE/INTERFACE, or "outside".
        target: the same, an address (a shared one too), or HOST/gateway: what that host sends to, written, leased or
            heard; a VLAN or a subnet for each of its hosts.
        probes: how many probes at least, one a second; more follow while tables still fill.
        family: 4 or 6; by default IPv4 where both ends have it, else IPv6. Where they have both, the answer in IPv6 is
            the answer's `other_family`.
        probe: what is sent: `icmp` (an echo request), or the first packet to a port: `tcp/443`, `udp/53`.
        without: parts to switch off first: devices, hosts, "DEVICE/PORT", "DEVICE/INTERFACE", cables, VLANs.
        move: hosts to plug in elsewhere first, each "HOST=DEVICE/PORT".

    Returns:
        The answer; printed, it says whether it is reached, and if not where, why, and what mends it. Of a VLAN or a
        subnet it is that of the first host, with `others`; it is true where all are reached.

    Raises:
        QueryError: an end does not exist, or no port leads outside.
        TrafficError: that is no probe.

    Example:
        >>> import archipelago
        >>> network = archipelago.read_network('''format: archipelago-network/1
        ... devices: {quay: {kind: switch}}
        ... hosts: {a: {at: quay/p1, address: 10.44.0.2/24}, b: {at: quay/p2, address: 10.44.0.3/24}}
        ... ''')
        >>> print(archipelago.reach(network, "a", "b").headline)
        REACHED: a reaches b (10.44.0.3) and the answer comes back
    """
    from archipelago.knowledge.index import index_network
    from archipelago.model.filters import parse_probe

    written = _supposed(network, without, move)
    index, sent = index_network(written), parse_probe(probe)
    first, *others = (_asked(index, source, one, probes, family, sent) for one in each_target(index, source, target))
    if without:
        first, *others = (_as_asked(answer, network, written, without) for answer in (first, *others))
    return replace(first, others=tuple(others))


def _supposed(network: Network, without: Sequence[str], move: Sequence[str]) -> Network:
    """The network as a question supposes it: hosts plugged in elsewhere, parts off."""
    if move:
        from archipelago.knowledge.parts import plugged_in

        network = plugged_in(network, move)
    if without:
        from archipelago.knowledge.known import know
        from archipelago.knowledge.parts import switched_off

        network = switched_off(know(network), without)
    return network


def _as_asked(answer: ReachResult, network: Network, written: Network, without: Sequence[str]) -> ReachResult:
    """An answer without a mend that would take back what was asked for."""
    from archipelago.proof.all_pairs import asked_off, off_as_asked, undoes

    six = answer.other_family
    if six is not None:
        answer = replace(answer, other_family=_as_asked(six, network, written, without))
    if answer.finding is not None and undoes(answer.finding, asked_off(network, written)):
        return replace(answer, mend=off_as_asked(without), edits=())
    return answer


def _asked(known: NetworkIndex, source: str, target: str, probes: int, family: int | None, sent: Probe) -> ReachResult:
    """One question, in each family that is asked."""
    from archipelago.knowledge.ends import common_families
    from archipelago.knowledge.index import index_network
    from archipelago.knowledge.outside import hides

    index, ends = ends_of(known, source, target)

    def answer(version: int | None) -> ReachResult:
        first = _reach(index, ends, probes, version, sent)
        if first.reached:
            return first
        apart = _kept_apart(index, ends, target, first, sent, hides(known.network))
        if apart:
            return replace(first, kept_apart=apart, mend=None, edits=())
        if not first.edits:
            return first
        from archipelago.proof.question import with_proof  # most questions need no mend

        def ask(mended: Network) -> ReachResult:
            return _reach(*ends_of(index_network(mended), source, target), probes, version, sent)

        return with_proof(first, known.knowledge.written, ask)

    first = replace(answer(family), target=target)
    if family is not None or len(common_families(*ends[0])) < 2:
        return first
    return replace(first, other_family=replace(answer(6), target=target))


def _kept_apart(index: NetworkIndex, ends: Ends, target: str, answer: ReachResult, sent: Probe, hidden: bool) -> str:
    """What keeps the two ends of a question apart on purpose; empty where nothing does."""
    from archipelago.addressing.values import Address
    from archipelago.model.ends import OUTSIDE

    network, (source, end) = index.network, ends[0]
    wanted = network.policy is not None or any(not one.reached for one in network.expect)
    if answer.family is None or not (wanted or hidden):
        return ""
    from archipelago.reachability.apart import Meant

    if isinstance(end, Address):
        holder = next(iter(index.holders(end)), None)
        asked = "" if holder is None else f"{holder.node.name}/{holder.nic.name}"
        asked = holder.node.name if holder is not None and holder.node.name in network.hosts else asked
    else:
        asked = target if end.name in network.devices and "/" in target else end.name
    hosts = tuple(network.hosts)
    outside = (OUTSIDE,) if OUTSIDE in hosts else ()
    return Meant(index.knowledge, hosts, outside, hidden=hidden).single(source.name, asked, answer.family, sent)


def _reach(index: NetworkIndex, ends: Ends, probes: int, family: int | None, probe: Probe) -> ReachResult:
    """One question, in one family; whoever gets out by any of the ports that lead outside, does."""
    from archipelago.simulation.reach import reach as ask

    answers = [ask(index, *ends[0], probes=probes, family=family, probe=probe)]
    for end in ends[1:]:
        if not answers[-1].reached:
            answers.append(ask(index, *end, probes=probes, family=family, probe=probe))
    return answers[-1] if answers[-1].reached else answers[0]


@checked
def lease(network: Network, host: str) -> LeaseResult:
    """Let a host ask for its lease, message by message and frame by frame, from cold tables: discover, offer, request,
    acknowledge (RFC 2131 3.1), through relays; then the renewal after half of the lease.

    Args:
        network: the network.
        host: a host with `address: dhcp`.

    Returns:
        What it was given and by whom; printed, it says where the exchange ended, why, and what mends it.

    Raises:
        QueryError: there is no such host, or it asks for no lease.

    Example:
        >>> archipelago.lease(network, "winch")
        Traceback (most recent call last):
        archipelago.errors.QueryError: 'winch' asks for no lease; write 'address: dhcp' at it
    """
    from archipelago.errors import QueryError
    from archipelago.knowledge.ends import find_source
    from archipelago.knowledge.index import index_network
    from archipelago.proof.lease import with_proof
    from archipelago.simulation.lease import lease as ask

    index = index_network(network)
    node = find_source(index, host)
    written = network.hosts.get(node.name)
    if written is None or not written.dhcp:
        raise QueryError(f"'{host}' asks for no lease; write 'address: dhcp' at it")
    return with_proof(index, ask(index, node))


@checked
def reach_in_order(network: Network, source: str, *, family: int | None = None) -> InOrder:
    """Make the checks from a host in the order in which people make them: its own card and port, its lease, its
    gateway, a neighbour in its VLAN, a host of each other VLAN, both ends of each link on the way, outside. It goes on
    after a no.

    Args:
        network: the network.
        source: a host or a device.
        family: 4 or 6; by default IPv4 where both ends have it, else IPv6.

    Returns:
        The checks, each with its answer and what its failing means.

    Raises:
        QueryError: there is no such host or device.

    Example:
        >>> print(archipelago.reach_in_order(network, "winch"))
        winch: 3 of 3 checks good
          UP           its own card and port: slip/p1
          REACHED      its gateway: 10.44.20.1
          REACHED      a host of yard (140): gull
    """
    from archipelago.knowledge.ends import checked as check_end
    from archipelago.knowledge.index import index_network
    from archipelago.knowledge.outside import with_outside
    from archipelago.model.ends import Kind
    from archipelago.model.filters import ECHO
    from archipelago.simulation.in_order import in_order

    check_end(network, source, (Kind.HOST, Kind.DEVICE))
    index = index_network(network)
    outside = bool(with_outside(index.knowledge)[1])
    return in_order(
        index,
        index.knowledge.nodes[source],
        outside,
        lambda target: _asked(index, source, target, PROBES, family, ECHO),
    )


@checked
def reach_all_in_order(network: Network, *, family: int | None = None) -> AllInOrder:
    """Make the checks in order from a host of each VLAN.

    Args:
        network: the network.
        family: 4 or 6; by default IPv4 where both ends have it, else IPv6.

    Returns:
        The checks from each of them.

    Example:
        >>> print(archipelago.reach_all_in_order(network).headline)
        from a host of each VLAN: 2 of 2 find everything as it should be
    """
    from archipelago.knowledge.index import index_network
    from archipelago.simulation.in_order import AllInOrder, one_of_each

    names = one_of_each(index_network(network))
    return AllInOrder(tuple(reach_in_order(network, name, family=family) for name in names))


@checked
def trace(network: Network, source: str, target: str, *, family: int | None = None) -> Trace:
    """List the routers on the way, as a growing TTL uncovers them.

    Args:
        network: the network.
        source: a host, a device, DEVICE/INTERFACE, or "outside".
        target: the same, an address, HOST/gateway; or a VLAN or a subnet for each of its hosts.
        family: 4 or 6; by default IPv4 where both ends have it, else IPv6.

    Returns:
        For each TTL who answered and what.

    Raises:
        QueryError: an end does not exist, or the two have no family in common.

    Example:
        >>> print(archipelago.trace(network, "winch", "gull"))
        gull answers; 1 router on the way answered
        <BLANKLINE>
        TTL  device   address       said
        ---  -------  ------------  --------------------------------------------
          1  landing  10.44.20.1    time exceeded (the TTL or hop limit ran out)
          2  gull     10.44.20.130  echo reply: the target itself
    """
    from archipelago.knowledge.index import index_network
    from archipelago.simulation.explore import Trace
    from archipelago.simulation.explore import trace as ask

    traces, known = [], index_network(network)
    for one in each_target(known, source, target):
        index, ends = ends_of(known, source, one)
        traces.append(Trace(source, one, ask(index, *ends[0], family)))
    return replace(traces[0], others=tuple(traces[1:]))


@checked
def broadcast(network: Network, source: str) -> Broadcast:
    """Who hears a broadcast of a host or device.

    Args:
        network: the network.
        source: a host, a device, or DEVICE/INTERFACE.

    Returns:
        Everyone who hears it, with the switch ports that it came through.

    Raises:
        QueryError: the source does not exist or has no interface that is up, or the broadcast never ends.

    Example:
        >>> print(archipelago.broadcast(network, "winch").headline)
        a broadcast of winch is heard by 0 hosts, 1 station in all
    """
    from archipelago.knowledge.ends import find_source
    from archipelago.knowledge.index import index_network
    from archipelago.simulation.explore import Broadcast
    from archipelago.simulation.explore import broadcast as ask

    index = index_network(network)
    return Broadcast(source, ask(index, find_source(index, source)))


def simulate(network: Network, source: str, target: str) -> tuple[NetworkIndex, Simulation]:
    """A simulation with one question's probes in it, for a look at the tables that they leave behind.

    Args:
        network: the network.
        source: a host, a device, or DEVICE/INTERFACE.
        target: the same, or an address.

    Returns:
        What is known of the network, and the simulation.

    Raises:
        QueryError: an end does not exist.
    """
    from archipelago.knowledge.index import index_network
    from archipelago.simulation.reach import simulate as run

    index, ends = ends_of(index_network(network), source, target)
    return index, run(index, *ends[0])


def ends_of(index: NetworkIndex, source: str, target: str) -> tuple[NetworkIndex, Ends]:
    """The network, the outside in it where that is asked about, and the ends of a question: several pairs where the
    outside has several ports."""
    from archipelago.knowledge.ends import find_end, find_source
    from archipelago.model.ends import OUTSIDE, find

    pairs = [(source, target)]
    end = find(target, index.network)
    if end is not None and end.address is not None and not index.is_held(end.address):  # it may be outside
        from archipelago.knowledge.index import index_network
        from archipelago.knowledge.outside import beyond, with_outside

        wider = index_network(with_outside(index.knowledge, beyond(index, [end.address]))[0])
        index = wider if wider.is_held(end.address) else index
    elif OUTSIDE in (source, target):
        index, outside = index.once(_with_outside)
        pairs = [(name, target) if source == OUTSIDE else (source, name) for name in outside] or pairs
    return index, [(find_source(index, one), find_end(index, other)) for one, other in pairs]


def _with_outside(index: NetworkIndex) -> tuple[NetworkIndex, tuple[str, ...]]:
    """The network with the outside in it, and the names of the hosts that stand for that."""
    from archipelago.knowledge.index import index_network
    from archipelago.knowledge.outside import with_outside

    network, outside = with_outside(index.knowledge)
    return index_network(network), outside


def each_target(index: NetworkIndex, source: str, target: str) -> list[str]:
    """The targets of a question: the hosts of a VLAN or a subnet but the source, any other end as it is.

    Raises:
        QueryError: nobody else is in the VLAN or the subnet.
    """
    from archipelago.errors import QueryError
    from archipelago.knowledge.ends import ASKED, checked
    from archipelago.model.ends import Kind

    end = checked(index.network, target, ASKED)
    if end.kind not in (Kind.VLAN, Kind.PREFIX):
        return [target]
    from archipelago.diagnosis.places import hosts_of

    hosts = [name for name in hosts_of(index.knowledge, end) if name != source]
    if not hosts:
        raise QueryError(f"there is no host in '{target}' to ask from {source}")
    return hosts
