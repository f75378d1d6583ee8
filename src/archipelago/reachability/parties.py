"""Who the ends of an expectation stand for: hosts, a device, an interface of one, an address, the outside."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property

import numpy as np

from archipelago.addressing.values import Address
from archipelago.diagnosis.places import hosts_within, plugged_hosts
from archipelago.knowledge.devices import Node
from archipelago.knowledge.ends import checked, find_end
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.model.ends import ENDS, GATEWAY, Kind
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

    def family(self, word: str) -> int | None:
        """The family of a subnet or an address; None where an end is for both."""
        end = checked(self.knowledge.network, word, ENDS)
        return end.block.version if end.kind in (Kind.ADDRESS, Kind.PREFIX) else None

    def _find(self, word: str) -> Ints | Node | Address:
        end = checked(self.knowledge.network, word, ENDS)
        if end.kind is Kind.ANYBODY:
            return np.arange(len(self.place))
        if end.kind is Kind.OUTSIDE:
            return self._places(self.outside)
        if end.kind is Kind.HOST:
            return self._places([end.name])
        if end.kind is Kind.VLAN:
            return self._places(self._by_vlan.get(end.vlan, []))
        if end.kind in (Kind.DEVICE, Kind.PART):
            return find_end(self.index, word)
        hosts = hosts_within(self.knowledge, end.block, self.outside)
        return end.address if end.address is not None and not hosts else self._places(hosts)

    def _places(self, names: Iterable[str]) -> Ints:
        return np.array([self.place[name] for name in names], dtype=np.int64)

    @cached_property
    def _by_vlan(self) -> dict[int | None, list[str]]:
        return plugged_hosts(self.knowledge, self.outside)
