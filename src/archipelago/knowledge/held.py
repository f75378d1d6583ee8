"""An address where it is held."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.addressing.values import InterfaceAddress
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.topology import Layer2Endpoint

TableName = tuple[str, str]
"""A routing table: its device and its `vrf`."""


@dataclass(frozen=True, slots=True)
class Held:
    """An address on an interface of a device or host, up or down."""

    node: Node
    nic: Nic
    address: InterfaceAddress

    @property
    def endpoint(self) -> Layer2Endpoint:
        """Where frames reach it."""
        return (self.node.name, self.nic.name)

    @property
    def table(self) -> TableName:
        """The routing table that it belongs to."""
        return (self.node.name, self.nic.vrf)
