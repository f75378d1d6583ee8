"""The words and edits that all findings share."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from archipelago.addressing.values import WIDTHS, Address, InterfaceAddress, Prefix
from archipelago.diagnosis.places import nic_path
from archipelago.knowledge.devices import Nic, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import REMOVE, Edit
from archipelago.model.parts import AUTO, DHCP, Host, NextHop, Path


def texts(values: Iterable[Any]) -> Any:
    """Values as a document holds them: one alone, or a list."""
    texts = [str(value) for value in values]
    return texts[0] if len(texts) == 1 else texts


def replaced(values: Iterable[Any], old: Any, new: Any) -> Any:
    """A value or list of values with one of them replaced, or added where `old` is None."""
    listed = [new if value == old else value for value in values]
    return texts(listed if old is not None else [*listed, new])


def with_address(place: Held | tuple[Node, Nic], old: InterfaceAddress | None, new: InterfaceAddress | None) -> Edit:
    """The edit that writes another address in the place of one of an interface's, or beside them (`old` is None), or
    takes it away (`new` is None). What is written beside it stays, the words for leased and advertised ones too."""
    node, nic = (place.node, place.nic) if isinstance(place, Held) else place
    document = node.document
    values: list[Any] = list(nic.addresses)
    if isinstance(document, Host):
        values = [*([DHCP] * document.dhcp), *document.addresses, *([AUTO] * document.auto)]
    return Edit((*nic_path(place), "address"), _changed(values, old, new))


def with_gateway(node: Node, old: NextHop | None, new: Address) -> Edit:
    """The edit that writes another gateway in the place of one, or beside them."""
    return Edit((*node_path(node), "gateway"), _changed(list(node.document.gateway), old, new))


def _changed(values: list[Any], old: Any, new: Any) -> Any:
    if new is None:
        return texts(value for value in values if value != old) or REMOVE
    return replaced(values, old, new)


def free_address(index: NetworkIndex, prefix: Prefix) -> InterfaceAddress | None:
    """The lowest address of a subnet that nobody holds and nobody takes for a next hop; None where it is full."""
    return next(free_addresses(index, prefix), None)


def wanted_address(index: NetworkIndex, holder: Held, right: Prefix) -> InterfaceAddress | None:
    """The address that an interface is meant to have in a subnet: the one that others name there and nobody holds (a
    next hop only where it routes), where that is one; else that at the same place as its own is in its subnet; else the
    lowest free one."""
    own, (first, last) = holder.address, right.usable()
    named = index.named_addresses if holder.node.can_route else index.named_addresses - index.next_hops
    missing = [one for one in named if right.holds(one) and first <= one.value <= last and not index.is_held(one)]
    if len(missing) == 1:
        return InterfaceAddress(*missing[0], right.length)
    same = same_place(index, own, right) if own.prefix != right else None
    return free_address(index, right) if same is None or same.address in index.next_hops else same


def same_place(index: NetworkIndex, own: InterfaceAddress, right: Prefix) -> InterfaceAddress | None:
    """The address of a subnet that stands at the same place as one elsewhere, where it can be given and nobody holds
    it."""
    if own.version != right.version:
        return None
    first, last = right.usable()
    same = InterfaceAddress(right.version, right.value + own.value % right.size, right.length)
    return same if first <= same.value <= last and not index.is_held(same.address) else None


def free_loopback(index: NetworkIndex, holder: Held) -> InterfaceAddress | None:
    """An address for a loopback interface beside those of the other devices: the first that they leave out, else the
    next; None where there are no others."""
    version, width = holder.address.version, WIDTHS[holder.address.version]
    others = sorted(
        address.value
        for node in index.knowledge.devices.values()
        for nic in node.nics.values()
        if nic.kind == "loopback" and node is not holder.node
        for address in nic.addresses
        if address.version == version and address.length == width
    )
    values = range(others[0], min(others[-1], others[0] + 100_000) + 2) if others else ()
    free = (Address(version, value) for value in values)
    return next((InterfaceAddress(*one, width) for one in free if not index.is_held(one)), None)


def free_addresses(index: NetworkIndex, prefix: Prefix) -> Iterator[InterfaceAddress]:
    """The addresses of a subnet that nobody holds and nobody takes for a next hop, the lowest first."""
    first, last = prefix.usable()
    for value in range(first, min(last, first + 100_000) + 1):
        address = Address(prefix.version, value)
        if not index.is_held(address) and address not in index.next_hops:
            yield InterfaceAddress(prefix.version, value, prefix.length)


def node_path(node: Node) -> Path:
    return ("hosts" if node.kind == "host" else "devices", node.name)


def label(holder: Held) -> str:
    """An address's holder as people call it."""
    return holder.node.name if holder.node.kind == "host" else f"{holder.node.name}/{holder.nic.name}"
