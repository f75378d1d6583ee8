"""Who reaches the devices that a policy names: their own addresses, which stand in no array."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice
from typing import NamedTuple

import numpy as np

from archipelago.addressing.values import Address, is_link_local
from archipelago.knowledge.alike import alike_hosts
from archipelago.knowledge.delivery import Ended
from archipelago.knowledge.forwarding import source_towards
from archipelago.knowledge.header import probe_header
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.model.ends import OUTSIDE, Kind, find
from archipelago.model.filters import Probe
from archipelago.model.network import Network
from archipelago.model.policy import Policy
from archipelago.reachability.few import few_hosts
from archipelago.reachability.walks import Question, Walks
from archipelago.simulation.reach import reach

MOST_QUESTIONS = 20_000
"""So many hosts and addresses of devices are put together at most, in each family."""


class DeviceBreach(NamedTuple):
    """A host that reaches a device's own address although it may not (`let_through`), or is kept from it by a filter
    although it may; the line of the policy that says so, and what was sent."""

    line: int
    let_through: bool
    host: str
    address: Address
    probe: Probe


def named_devices(network: Network) -> list[str]:
    """The devices whose own addresses the policy speaks of."""
    if network.policy is None:
        return []
    ends = (find(word, network) for rule in network.policy.rules for word in rule.target)
    return [*dict.fromkeys(end.name for end in ends if end is not None and end.kind in (Kind.DEVICE, Kind.PART))]


def of_devices(
    index: NetworkIndex, members: Sequence[set[str]], hosts: Sequence[str], version: int, probes: Sequence[Probe]
) -> Iterator[DeviceBreach]:
    """Where hosts and the policy differ about devices' own addresses, MOST_QUESTIONS asked at most.

    Args:
        index: the network, the outside in it as a host.
        members: the hosts that each line of the policy is about.
        hosts: whom to ask for: one of each sort.
        version: the family, 4 or 6.
        probes: what to send.
    """
    network = index.network
    policy, named = network.policy, named_devices(network)
    if policy is None or not named:
        return
    able = [host for host in hosts if _speaks(index, host, version)]
    speaking = {host: tuple(number for number, hosts in enumerate(members) if host in hosts) for host in able}
    allowed = Allowed(policy, probes)
    asked = list(islice(_asked(index, named, able, version), MOST_QUESTIONS))
    answers = Walks(index, version, probes).ask([Question(host, own, name, to) for host, own, name, _, to in asked])
    single = AddressAsking(index, hosts)
    for number in np.flatnonzero(answers.unclear).tolist():
        host, _, name, _, address = asked[number]
        for place, probe in enumerate(probes):
            answers.reached[number, place], answers.cut[number, place] = single.reaches(host, name, address, probe)
    lines = [allowed.lines(speaking[host], name, interface) for host, _, name, interface, _ in asked]
    may = np.array([[may for may, _ in each] for each in lines], dtype=np.bool_).reshape(answers.reached.shape)
    wrong = (answers.reached & ~may) | (answers.cut & ~answers.reached & may)
    for number in np.flatnonzero(wrong.any(axis=1)).tolist():
        host, _, _, _, address = asked[number]
        within = _within(index, host, address)
        for place in np.flatnonzero(wrong[number]).tolist():
            reached = bool(answers.reached[number, place])
            # What is within one VLAN passes no filter of a gateway: nobody is asked to keep it apart.
            if not (reached and within):
                yield DeviceBreach(lines[number][place][1], reached, host, address, probes[place])


def _asked(
    index: NetworkIndex, named: Sequence[str], hosts: Sequence[str], version: int
) -> Iterator[tuple[str, Address, str, str, Address]]:
    """Each of some hosts with each address of some devices: the host and the address that it speaks from, the device,
    its interface and its address."""
    states = {host: index.knowledge.state(host) for host in hosts}
    for name in named:
        for interface, address in own_addresses(index.network, name, version):
            for host, state in states.items():
                source = source_towards(state, address)
                if source is not None:
                    yield host, source, name, interface, address


class AddressAsking:
    """Asks whether a host reaches an address of a device: station by station, and where addresses are translated on
    the way the simulation."""

    def __init__(self, index: NetworkIndex, hosts: Sequence[str]) -> None:
        self._index = index
        self._hosts = hosts
        self._carrier = index.carrier
        self._within: Knowledge | None = None

    def reaches(self, host: str, device: str, address: Address, probe: Probe) -> tuple[bool, bool]:
        """Whether a host reaches an address of a device, and whether a filter is what keeps it from that."""
        source = source_towards(self._index.knowledge.state(host), address)
        if source is None:
            return False, False
        out = self._carrier.carry(host, probe_header(source, address, probe))
        if isinstance(out, Ended):
            return False, out.refusal is not None
        if out.translated:
            return self._simulated(host, address, probe)
        vrf = self._index.knowledge.nodes[out.node].nics[out.interface].vrf
        header = probe_header(address, source, probe, answers=True)
        back = self._carrier.carry(out.node, header, vrf, out.passed)
        if isinstance(back, Ended):
            return False, back.refusal is not None
        return (out.node, back.node) == (device, host), False

    def _simulated(self, host: str, address: Address, probe: Probe) -> tuple[bool, bool]:
        index = self._index
        if self._within is None:
            kinds = {alike[0].name for alike in alike_hosts(index)}  # what they keep up stays up
            self._within = few_hosts(index, kinds | ({*self._hosts, OUTSIDE} & index.network.hosts.keys()))
        node, version = index.knowledge.nodes[host], address.version
        answer = reach(index, node, address, probes=1, family=version, within=self._within, probe=probe)
        return answer.reached, answer.finding is not None and answer.finding.kind == "filtered"


def questions_of_devices(network: Network, hosts: int) -> int:
    """How many questions it takes at most to know who reaches the devices that the policy names."""
    named = named_devices(network)
    return hosts * max(sum(len(own_addresses(network, name, v)) for name in named) for v in (4, 6))


def _speaks(index: NetworkIndex, host: str, version: int) -> bool:
    return any(own.version == version for nic in index.knowledge.nodes[host].nics.values() for own in nic.addresses)


def _within(index: NetworkIndex, host: str, address: Address) -> bool:
    """Whether an address is in a host's own subnet, and not its gateway's."""
    node = index.knowledge.nodes[host]
    subnets = (own.prefix for nic in node.nics.values() for own in nic.addresses if own.version == address.version)
    gateways = {hop.address for hop in index.knowledge.network.hosts[host].gateway}
    return address not in gateways and any(subnet.holds(address) for subnet in subnets)


class Allowed:
    """What a policy says of devices' own addresses."""

    def __init__(self, policy: Policy, probes: Sequence[Probe]) -> None:
        self._policy = policy
        self._probes = probes
        self._known: dict[tuple[tuple[int, ...], str, str], list[tuple[bool, int]]] = {}

    def lines(self, speaking: tuple[int, ...], device: str, interface: str) -> list[tuple[bool, int]]:
        """For each kind of traffic whether a host that some lines speak of may begin with an interface's address, and
        the line that says so."""
        key = speaking, device, interface
        if key not in self._known:
            self._known[key] = [self._line(speaking, device, interface, probe) for probe in self._probes]
        return self._known[key]

    def _line(self, speaking: tuple[int, ...], device: str, interface: str, probe: Probe) -> tuple[bool, int]:
        """Where no line names the address, the line is the first that names the device."""
        ends = {device, f"{device}/{interface}"}
        for number in speaking:
            rule = self._policy.rules[number]
            if ends & set(rule.target) and rule.speaks_of(probe):
                return bool(rule.may), number
        rules = enumerate(self._policy.rules)
        return False, next(n for n, rule in rules if any(e.partition("/")[0] == device for e in rule.target))


def own_addresses(network: Network, name: str, version: int) -> list[tuple[str, Address]]:
    """The addresses of one family that a device can be managed by, each with its interface: its own, as written."""
    device = network.devices[name]
    return [
        (part.name, own.address)
        for part in (*device.ports.values(), *device.interfaces.values())
        for own in part.addresses
        if own.version == version and not is_link_local(own)
    ]
