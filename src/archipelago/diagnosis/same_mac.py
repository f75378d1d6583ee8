"""Two stations of one broadcast domain with one MAC address: switches send what is for the one to the other."""

from __future__ import annotations

from collections.abc import Iterator

from archipelago.diagnosis.kind import ALWAYS, Example, Kind, finding
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit, Finding


def same_mac(index: NetworkIndex, *stations: str) -> Iterator[Finding]:
    """A finding for each written MAC address that another station of the same domain has (IEEE 802.1Q 8.7: a switch
    learns where an address is from what comes from it).

    Args:
        index: the network.
        stations: only where one of these is concerned; by default all.
    """
    nodes = index.knowledge.nodes
    written = [node for node in nodes.values() if node.written.mac is not None]
    by_mac: dict[int, list[tuple[Node, Nic]]] = {}
    if written:
        for node in nodes.values():
            for nic in node.nics.values():
                by_mac.setdefault(nic.mac, []).append((node, nic))
    place = {name: number for number, name in enumerate(nodes)} if written else {}
    for node in written:
        for nic in node.nics.values():
            for other, theirs in by_mac[nic.mac]:
                named = not stations or {node.name, other.name} & set(stations)
                first = other.written.mac is None or place[other.name] < place[node.name]
                together = index.domains.together((node.name, nic.name), (other.name, theirs.name))
                if other is not node and named and first and together:
                    yield _finding(node, nic, f"{other.name}/{theirs.name}")
                    break


def _written(mac: int) -> str:
    """A MAC address as documents have it."""
    return "-".join(f"{mac >> shift & 0xFF:02X}" for shift in range(40, -1, -8))


MAC_TWICE = Kind(
    "mac-twice",
    "error",
    "one MAC address at two stations of a VLAN",
    "switches send what is for the one to the other",
    ALWAYS,
    example=Example("pier", "hosts: {kiosk: {mac: 02-00-00-00-10-01}, desk: {mac: 02-00-00-00-10-01}}"),
)


def _finding(node: Node, nic: Nic, other: str) -> Finding:
    path = ("hosts" if node.kind == "host" else "devices", node.name, "mac")
    return finding(
        MAC_TWICE,
        at=node.name,
        path=path,
        says=f"{node.name} has the MAC address {_written(nic.mac)}, which {other} in its VLAN has too",
        mend=f"take the written MAC address from {node.name}, or write one that nobody has",
        edits=(Edit(path, REMOVE),),
    )
