"""What a host knows of itself: one port, its addresses, and the MAC address that follows its place."""

from __future__ import annotations

from collections.abc import Mapping

from archipelago.knowledge.devices import Attachment, Nic, Node
from archipelago.knowledge.links import HOST_PORT
from archipelago.knowledge.mac import host_mac
from archipelago.knowledge.reasons import Down
from archipelago.model.parts import USUAL_MTU, End, Host, Port

_PORT = Port(HOST_PORT)


class HostNumbers:
    """The place of each host in its network, which its MAC address follows where none is written; counted once somebody
    asks."""

    __slots__ = ("_hosts", "_numbers")

    def __init__(self, hosts: Mapping[str, Host]) -> None:
        self._hosts = hosts
        self._numbers: dict[str, int] = {}

    def mac(self, name: str) -> int:
        """The MAC address of a host: the one that is written, else that of its place."""
        written = self._hosts[name].mac
        if written is not None:
            return written
        if not self._numbers:
            self._numbers = {host: number for number, host in enumerate(self._hosts)}
        return host_mac(self._numbers[name])


def host_node(host: Host, down: Down | None, mac: int, document: Host | None = None) -> Node:
    """What a host knows of itself, with what it has learned. `down` says why its port has no carrier, None where it
    has; `document` is the host as it is written where that is something else."""
    nic = Nic(
        name=HOST_PORT,
        kind="host",
        attachment=HOST_PORT,
        tag=None,
        vlan=None,
        addresses=host.addresses,
        vrf="",
        down=down,
        mac=mac,
        mtu=host.mtu or USUAL_MTU,
    )
    attachment = Attachment(
        name=HOST_PORT,
        members=(End(host.name, HOST_PORT),),
        switched=False,
        vlans=frozenset(),
        untagged=None,
        down=down,
        written=_PORT if host.mtu is None else Port(HOST_PORT, mtu=host.mtu),
    )
    return Node(
        name=host.name,
        kind="host",
        off=host.off,
        holds_unresolved=host.unresolved != "drop",
        forwards=frozenset(),
        vlans=frozenset(),
        attachments={HOST_PORT: attachment},
        nics={HOST_PORT: nic},
        written=host,
        document=document or host,
        member_of={},
        mac=mac,
    )
