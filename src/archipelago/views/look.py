"""What devices know, looked at: which tables are shown, and of whom."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields

from archipelago.errors import QueryError
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex, index_network
from archipelago.model.network import Network
from archipelago.model.problems import Names, listed
from archipelago.simulation.build import Simulation
from archipelago.views import device, leases, overview, redundancy
from archipelago.views.filters import conversations, filters
from archipelago.views.policy import policy, summary
from archipelago.views.view import View


@dataclass(frozen=True, slots=True)
class Wanted:
    """What is to be shown, by the names that people give: devices, VLANs, ports, hosts, or all gateways; and a
    simulation whose tables are shown too."""

    devices: Sequence[str] = ()
    vlans: Sequence[str] = ()
    ports: Sequence[str] = ()
    hosts: Sequence[str] = ()
    gateways: bool = False
    policy: bool = False
    leases: bool = False
    redundancy: bool = False
    simulated: Simulation | None = None

    @property
    def is_everything(self) -> bool:
        """Whether nothing of it is chosen."""
        return not any(getattr(self, one.name) for one in fields(self))


def look(network: Network, wanted: Wanted) -> View:
    """Look at a network.

    Raises:
        QueryError: a device, host, VLAN or port does not exist.
    """
    index = index_network(network)
    nodes = [_node(index, name) for name in wanted.devices or network.devices]
    unlike = ""
    if wanted.policy and network.policy is None:
        raise QueryError("the network has no 'policy'; write who may talk to whom")
    if wanted.hosts or wanted.gateways or wanted.policy:
        shown = [device.host_view(index, _node(index, name)) for name in wanted.hosts]
        shown += [*device.gateways(index), redundancy.routers(index)] if wanted.gateways else []
        shown += [policy(network)] if wanted.policy else []
    elif wanted.leases:
        return leases.look(index)
    elif wanted.redundancy:
        return redundancy.look(index)
    else:
        vlans = frozenset(_vlan(index, name) for name in wanted.vlans)
        ports = frozenset(_port(nodes, name) for name in wanted.ports)
        shown = device.tables(index, nodes, vlans, ports)
        shown += [filters(nodes, ports)] if not vlans else []
        if index.knowledge.devices.tree.blocked and not vlans and not ports:
            shown.append(redundancy.ports(index, nodes))
        shown = [table for table in shown if table.rows]
        if len(wanted.devices) == 2:
            beside = device.side_by_side(index, *nodes)
            shown, unlike = [beside, *shown], device.unlike(beside)
    if wanted.simulated is not None:
        learned = [*device.learned(wanted.simulated, nodes), conversations(wanted.simulated, nodes)]
        shown += [table for table in learned if table.rows]
    headline = summary(network) if wanted.policy else device.summary(nodes) + unlike
    if wanted.is_everything:
        return View(headline, (overview.devices(index), overview.vlans(index)), more=tuple(shown))
    return View(headline, tuple(shown))


def _node(index: NetworkIndex, name: str) -> Node:
    nodes = index.knowledge.nodes
    if name not in nodes:
        hint = Names().hint(name, nodes)
        raise QueryError(f"there is no device '{name}'{hint}; there are: {listed(index.network.devices)}")
    return nodes[name]


def _vlan(index: NetworkIndex, name: str) -> int:
    number = index.network.vlan_called(name)
    if number is None:
        hint = Names().hint(name, index.network.vlans)
        raise QueryError(f"there is no VLAN '{name}'{hint}; there are: {listed(index.network.vlans)}")
    return number


def _port(nodes: Sequence[Node], name: str) -> str:
    known = dict.fromkeys(label for node in nodes for label in (*node.attachments, *node.nics, *node.member_of))
    if name not in known:
        raise QueryError(
            f"there is no port or interface '{name}'{Names().hint(name, known)}; there are: {listed(known)}"
        )
    return name
