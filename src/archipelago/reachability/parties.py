"""Who the ends of an expectation stand for: hosts, a device, an interface of one, an address, the outside."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from archipelago.addressing.values import Address, Prefix, parse_address, parse_prefix
from archipelago.diagnosis.places import plugged_vlan
from archipelago.errors import AddressError, QueryError
from archipelago.knowledge.devices import Node
from archipelago.knowledge.ends import find_end
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.model.expectation import GATEWAY, OUTSIDE
from archipelago.model.parts import Host
from archipelago.reachability.arrays import Ints


class Parties:
    """The ends of expectations in one network, whose hosts stand in arrays.

    Args:
        knowledge: the network.
        hosts: its hosts, in the order of the arrays.
        outside: those that stand for the outside.
    """

    def __init__(self, knowledge: Knowledge, hosts: tuple[str, ...], outside: tuple[str, ...]) -> None:
        self.knowledge = knowledge
        self.outside = outside
        self.index = NetworkIndex(knowledge)
        self.place = {name: index for index, name in enumerate(hosts)}
        self._known: dict[str, Ints | Node | Address] = {}

    def of(self, end: str) -> Ints | Node | Address:
        """Whom an end stands for: the places of its hosts, a device, or an address that no host holds.

        Raises:
            QueryError: there is none such.
        """
        if end not in self._known:
            self._known[end] = self._find(end)
        return self._known[end]

    def hosts(self, end: str) -> Ints:
        """The places of an end's hosts; none where it is no end of hosts."""
        party = np.array([], dtype=np.int64) if self.is_gateway(end) else self.of(end)
        return party if isinstance(party, np.ndarray) else np.array([], dtype=np.int64)

    def is_gateway(self, end: str) -> bool:
        """Whether an end is everybody's own gateway: the word, where nothing is called so."""
        network = self.knowledge.network
        return end == GATEWAY and not any(end in named for named in (network.vlans, network.hosts, network.devices))

    def _find(self, end: str) -> Ints | Node | Address:
        network = self.knowledge.network
        if end == OUTSIDE:
            return _places([self.place[name] for name in self.outside])
        if end in network.hosts:
            return _places([self.place[end]])
        vlan = network.vlan_called(end)
        if vlan is not None:
            return _places(self._by_vlan.get(vlan, []))
        if end.partition("/")[0] in network.devices:
            return find_end(self.index, end)
        try:
            block = parse_prefix(end) if "/" in end else parse_address(end)
        except AddressError:
            raise QueryError(
                f"'{end}' is no end to expect anything of: write a VLAN, a host, a subnet, an address, a device, "
                f"DEVICE/INTERFACE or '{OUTSIDE}'"
            ) from None
        within = block if isinstance(block, Prefix) else Prefix(*block, 32 if block.version == 4 else 128)
        own = (host for host in network.hosts.values() if host.name not in self.outside)
        places = [self.place[host.name] for host in own if _inside(host, within)]
        return block if isinstance(block, Address) and not places else _places(places)

    @cached_property
    def _by_vlan(self) -> dict[int | None, list[int]]:
        """The places of the hosts that are plugged into each VLAN."""
        plugged: dict[int | None, list[int]] = {}
        for name, host in self.knowledge.network.hosts.items():
            if name not in self.outside:
                plugged.setdefault(plugged_vlan(self.knowledge, host), []).append(self.place[name])
        return plugged


def _places(places: list[int]) -> Ints:
    return np.array(places, dtype=np.int64)


def _inside(host: Host, block: Prefix) -> bool:
    return any(block.holds(address) for address in host.addresses)
