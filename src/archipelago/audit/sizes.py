"""Mistakes of packet sizes: ports that pass less than what comes there, and drop the rest in silence."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.audit.registry import rule
from archipelago.diagnosis import faults
from archipelago.knowledge.devices import Attachment, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.model.network import Network
from archipelago.model.parts import Loopback

Port = tuple[Node, Attachment]


@rule
def sizes(index: NetworkIndex) -> Iterator[Finding]:
    """A port that frames come to, or leave by, which are larger than it passes: whoever stands in its broadcast domain
    sends such."""
    if not written_anywhere(index.network):
        return
    wanted: dict[tuple[str, str], int] = {}
    ports: dict[tuple[str, str], Port] = {}
    for domain in index.domains.every():
        there = [port for endpoint in domain.endpoints for port in _ports_at(index, *endpoint)]
        most = max((mtu for endpoint in domain.endpoints for mtu in _sent_at(index, *endpoint)), default=0)
        for node, port in there:
            key = (node.name, port.name)
            ports[key] = node, port
            wanted[key] = max(wanted.get(key, 0), most)
    for key, (node, port) in ports.items():
        if port.mtu < wanted[key]:
            yield faults.mtu_mismatch(index, node, port, wanted[key])


def written_anywhere(network: Network) -> bool:
    """Whether a packet size is written in a network at all."""
    devices = network.devices.values()
    parts = (part for device in devices for part in (*device.ports.values(), *device.interfaces.values()))
    return any(not isinstance(part, Loopback) and part.mtu is not None for part in parts) or any(
        host.mtu is not None for host in network.hosts.values()
    )


def _ports_at(index: NetworkIndex, device: str, part: int | str) -> Iterator[Port]:
    """The ports and aggregates that frames of an endpoint of a device go in and out by, those of hosts included."""
    node = index.knowledge.devices[device]
    for port in node.attachments.values():
        mine = part in port.vlans if isinstance(part, int) else _speaks_by(node, part, port)
        if mine and port.passes:
            yield node, port
            for end in port.members:
                peer = index.knowledge.links[end].peer
                if peer is not None and peer.device not in index.knowledge.devices:
                    host = index.knowledge.nodes[peer.device]
                    yield host, next(iter(host.attachments.values()))


def _speaks_by(node: Node, interface: str, port: Attachment) -> bool:
    return node.nics[interface].attachment == port.name


def _sent_at(index: NetworkIndex, device: str, part: int | str) -> Iterator[int]:
    """The octets of the largest packets that stations at an endpoint send."""
    node = index.knowledge.devices[device]
    if isinstance(part, str):
        nic = node.nics[part]
        yield nic.mtu if nic.addresses else 0
    for host, _ in _ports_at(index, device, part):
        if host.kind == "host":
            yield next(iter(host.nics.values())).mtu
