"""Hosts folded into classes that forward alike and are forwarded to alike."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass

from archipelago.addressing.values import Address, is_link_local
from archipelago.diagnosis.picture import Picture
from archipelago.knowledge.devices import Node
from archipelago.simulation.reach import first_address


@dataclass(frozen=True, slots=True)
class Classes:
    """The classes of one family. `members` lists the hosts of each class; `addresses` is that of its first member;
    `atoms` the piece of the address space that it lies in; `domains` its broadcast domain, -1 where it is down.
    `edges` are where the pieces start. `apart` are hosts that no class can stand for: several addresses of the family,
    or one that somebody else holds too."""

    version: int
    members: tuple[tuple[str, ...], ...]
    addresses: tuple[Address, ...]
    atoms: tuple[int, ...]
    domains: tuple[int, ...]
    edges: tuple[int, ...]
    apart: frozenset[str]


def fold(view: Picture, version: int) -> Classes:
    """Fold the hosts of a family. The address space is cut wherever any table, mask or next hop tells two addresses
    apart, so hosts in one piece and one domain, with one mask and gateway, fare alike."""
    hosts = [view.knowledge.nodes[name] for name in view.network.hosts]
    edges = _edges(view, version)
    groups: dict[tuple[object, ...], list[tuple[Node, Address]]] = {}
    apart = set()
    for node in hosts:
        address = first_address(node, version)
        if address is None:
            continue
        nic = next(iter(node.nics.values()))
        own = [held for held in nic.addresses if held.version == version]
        if len(own) > 1 or len(view.holders[address]) > 1:
            apart.add(node.name)
            continue
        atom = bisect_right(edges, address.value) - 1
        domain = view.domains.of.get((node.name, nic.name), -1)
        gateways = tuple(hop for hop in node.written.gateway if hop.address.version == version)
        key: tuple[object, ...] = (atom, domain, own[0].length, gateways, nic.up, node.off if domain < 0 else False)
        if domain < 0:
            key = (*key, node.name)  # what is down is down for reasons of its own
        groups.setdefault(key, []).append((node, address))
    listed = list(groups.items())
    return Classes(
        version,
        tuple(tuple(node.name for node, _ in group) for _, group in listed),
        tuple(group[0][1] for _, group in listed),
        tuple(int(str(key[0])) for key, _ in listed),
        tuple(int(str(key[1])) for key, _ in listed),
        edges,
        frozenset(apart),
    )


def _edges(view: Picture, version: int) -> tuple[int, ...]:
    """Where the address space is cut: at both ends of every prefix that any table has, around the addresses that mean
    a subnet's ends, and around those that somebody uses as a next hop."""
    cuts = {0}
    for node in view.knowledge.nodes.values():
        for (_, family), table in node.routes.tables.items():
            if family == version:
                for _, entries in table.lengths:
                    for entry in entries.values():
                        cuts |= {entry.prefix.value, entry.prefix.last + 1}
                        if entry.next_hop is not None:
                            cuts |= {entry.next_hop.value, entry.next_hop.value + 1}
                for value in table.broadcasts:
                    cuts |= {value, value + 1}
        for nic in node.nics.values():
            for held in nic.addresses:
                if held.version == version and not is_link_local(held):
                    cuts |= {held.prefix.value, held.prefix.last + 1}
                    if node.kind != "host":
                        cuts |= {held.value, held.value + 1}
    return tuple(sorted(cuts))
