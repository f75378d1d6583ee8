"""The network document: a tree becomes a network, every reference resolved, every problem told with its place."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from itertools import chain
from typing import Any

from archipelago.files.bulk import members, opened
from archipelago.files.codecs import LEARNED
from archipelago.files.sections import Fields, Reader
from archipelago.files.tree import Tree
from archipelago.model.demand import Demand
from archipelago.model.expectation import Expectation
from archipelago.model.filters import Filter, FilterRule
from archipelago.model.key import Holder
from archipelago.model.leases import Pool
from archipelago.model.network import Network, unchecked
from archipelago.model.parts import (
    Aggregate,
    Cable,
    Device,
    Host,
    Interface,
    Loopback,
    OutsidePort,
    Port,
    Route,
    Subinterface,
    VlanInterface,
)
from archipelago.model.policy import Policy, PolicyRule
from archipelago.model.rules import network_problems
from archipelago.model.virtual import Track, VirtualRouter
from archipelago.progress import steps

FORMAT = "archipelago-network/1"
_INTERFACES: dict[Holder, type[Any]] = {
    Holder.SUBINTERFACE: Subinterface,
    Holder.VLAN_INTERFACE: VlanInterface,
    Holder.AGGREGATE: Aggregate,
    Holder.LOOPBACK: Loopback,
}


def network_from(tree: Tree) -> Network:
    """The network that a tree describes.

    Raises:
        DocumentError: with every problem of the file.
    """
    reader = Reader(tree, (FORMAT,))
    network, fields = _read(reader)
    reader.add_listed(network_problems(network, reader.left_out), fields)
    reader.finish()
    return network


def network_parts(tree: Tree) -> Network:
    """The parts of a network that a tree describes, which may name others that are not there.

    Raises:
        DocumentError: with every problem of the parts.
    """
    reader = Reader(tree, (FORMAT,))
    network, _ = _read(reader)
    reader.finish()
    return network


def _read(reader: Reader) -> tuple[Network, Fields]:
    """A document's network as it is written, and its fields; problems are the reader's."""
    tree = reader.tree
    bulks = opened(reader, Holder.NETWORK, Holder.HOST)
    fields = reader.document(Holder.NETWORK)
    single = {name: section[1] for name, section in fields["hosts"].items()}
    hosts = steps(
        chain(single.items(), members(reader, bulks, single)),
        "building hosts",
        len(single) + sum(bulk.size for bulk in bulks),
    )
    cables = cables_of(fields["cables"])
    written = {name: {"id": vlan} if isinstance(vlan, int) else vlan[1] for name, vlan in fields["vlans"].items()}
    network = unchecked(
        title=fields["title"],
        vlans={name: vlan["id"] for name, vlan in written.items()},
        suspended=tuple(vlan["id"] for vlan in written.values() if vlan.get("suspended")),
        devices={name: _device(name, section[1]) for name, section in fields["devices"].items()},
        hosts={name: _host(name, own) for name, own in hosts},
        cables=tuple(cables),
        expect=expectations_of(fields["expect"]),
        traffic=demands_of(fields["traffic"]),
        outside=_outside(fields["outside"]),
        policy=policy_of(fields["policy"]),
        domain=fields["domain"],
        source=tree.source,
        marks=tree.marks,
    )
    return network, fields


def _outside(listed: list[tuple[int, Fields]] | None) -> tuple[OutsidePort, ...] | None:
    return None if listed is None else tuple(OutsidePort(**fields) for _, fields in listed)


def policy_of(section: Any) -> Policy | None:
    """The policy of a document, from its section; None where it has none."""
    if not isinstance(section, tuple):
        return None
    fields = section[1]
    return Policy(fields["otherwise"], tuple(PolicyRule(**rule) for _, rule in fields["rules"]))


def cables_of(listed: list[tuple[int, Fields]]) -> Iterator[Cable]:
    """The cables of a document, from their sections."""
    for _, fields in listed:
        a, b = fields["ends"]
        yield Cable(a, b, fields["off"])


def expectations_of(listed: list[tuple[int, Fields]]) -> tuple[Expectation, ...]:
    """What a document expects, from its sections."""
    return tuple(Expectation(**fields) for _, fields in listed)


def demands_of(listed: list[tuple[int, Fields]]) -> tuple[Demand, ...]:
    """What a document's hosts send each other, from its sections."""
    return tuple(Demand(**fields) for _, fields in listed)


def host_addresses(fields: Fields) -> Fields:
    """A host's fields with `auto` and `dhcp` apart from the addresses that are written."""
    addresses = fields["addresses"]
    learned = [word for word in LEARNED if word in addresses]
    if not learned:
        return fields
    own = tuple(address for address in addresses if address not in LEARNED)
    return {**fields, "addresses": own, **dict.fromkeys(learned, True)}


def _host(name: str, fields: Fields) -> Host:
    own = host_addresses(fields)
    if own["dhcp_pools"]:
        own = {**own, "dhcp_pools": _pools(own["dhcp_pools"])}
    return Host(name=name, **own)


def _pools(sections: Mapping[str, Any]) -> dict[str, Pool]:
    return {label: Pool(name=label, **section[1]) for label, section in sections.items()}


def _device(name: str, fields: Fields) -> Device:
    routing = fields["routing"]
    parts = {
        "ports": {label: _port(label, section[1]) for label, section in fields["ports"].items()},
        "interfaces": {label: _interface(label, *section) for label, section in fields["interfaces"].items()},
        "routes": tuple(Route(**field) for _, field in fields["routes"]),
        "dhcp_pools": _pools(fields["dhcp_pools"]),
        "filters": {label: _filter(label, section[1]) for label, section in fields["filters"].items()},
        "routing": None if routing is None else tuple(sorted(set(routing))),
    }
    return Device(name=name, **{**fields, **parts})


def _filter(name: str, fields: Fields) -> Filter:
    rules = tuple(FilterRule(**rule) for _, rule in fields["rules"])
    return Filter(name=name, **{**fields, "rules": rules})


def _port(name: str, fields: Fields) -> Port:
    return Port(name=name, **(_shared(fields) if fields["virtual"] else fields))


def _shared(fields: Fields) -> Fields:
    """An interface's fields with its virtual routers made of their own."""
    virtual = [
        VirtualRouter(**{**own, "track": tuple(Track(**track) for _, track in own["track"])})
        for _, own in fields["virtual"]
    ]
    return {**fields, "virtual": tuple(virtual)}


def _interface(name: str, holder: Holder, fields: Fields) -> Interface:
    kept = {field: value for field, value in fields.items() if field != "loopback"}
    if kept.get("virtual"):
        kept = _shared(kept)
    made: Interface = _INTERFACES[holder](name=name, **kept)
    return made
