"""Mistakes at hosts, and between addresses."""

from __future__ import annotations

from collections.abc import Sequence

from archipelago.addressing.values import Address, InterfaceAddress, Prefix
from archipelago.diagnosis.faults.words import (
    free_address,
    free_loopback,
    label,
    node_path,
    same_place,
    texts,
    wanted_address,
    with_address,
    with_gateway,
)
from archipelago.diagnosis.kind import ALWAYS, NEVER, OFTEN, Example, Kind, finding
from archipelago.diagnosis.places import nic_path, others_ask, port_path, sits_in, vlan_of, wanted_vlan
from archipelago.knowledge.devices import Attachment, Node
from archipelago.knowledge.held import Held
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.insides import Apart
from archipelago.knowledge.links import HOST_PORT
from archipelago.model.finding import REMOVE, Edit, Finding, Mend
from archipelago.model.parts import AUTO, DHCP, Device, Host, NextHop, Path

ADDRESS_MISSING = Kind(
    "address-missing",
    "error",
    "a host, or a device that is asked, without an address, of a family or at all",
    "{name} neither sends nor answers",
    OFTEN,
    example=Example("pier", "hosts: {desk: {address: ~, gateway: ~}}"),
)


def host_unaddressed(index: NetworkIndex, host: Host, version: int | None) -> Finding:
    """A host without an address, of a family or at all. Of each family that its gateways are of, else that is routed in
    its VLAN, it asks for one where its neighbours do and it has no gateway of that family, else it gets a free one."""
    node = index.knowledge.nodes[host.name]
    vlan = sits_in(index, node, next(iter(node.nics.values())))
    host = node.document if isinstance(node.document, Host) else host  # what it was leased is not written
    path: Path = ("hosts", host.name)
    addresses = [*([DHCP] * host.dhcp), *host.addresses, *([AUTO] * host.auto)]
    gateways = [hop.address for hop in host.gateway]
    given: list[str] = []
    for wanted in _families_wanted(index, host, vlan) if version is None else (version,):
        asks = {4: DHCP, 6: AUTO}[wanted]
        hop = next((gateway for gateway in gateways if gateway.version == wanted), None)
        home = _home_there(index, vlan, wanted, hop)
        new = free_address(index, home.address.prefix) if home is not None else None
        if hop is None and vlan is not None and others_ask(index, vlan, wanted):
            addresses.append(asks)
            given.append(f"let {host.name} ask for an address ({asks})")
        elif home is not None and new is not None:
            addresses.append(new)
            given.append(f"give {host.name} the address {new} and the gateway {hop or home.address.address}")
            gateways += [] if hop else [home.address.address]
    edits: tuple[Edit, ...] = ()
    if given:
        edits = (Edit((*path, "address"), texts(addresses)),)
        if len(gateways) > len(host.gateway):
            edits = (*edits, Edit((*path, "gateway"), texts(gateways)))
    mend = "; and ".join(given) or f"give {host.name} an address of its VLAN's subnet"
    family = f"IPv{version}" if version else "IP"
    return finding(
        ADDRESS_MISSING,
        at=host.name,
        path=path,
        says=f"{host.name} has no {family} address",
        mend=mend,
        edits=edits,
        name=host.name,
    )


def _families_wanted(index: NetworkIndex, host: Host, vlan: int | None) -> Sequence[int]:
    """The families that a host without any address is meant to have: those of its gateways, and those that others of
    its VLAN ask for; without any gateway those that are routed there."""
    named = {hop.address.version for hop in host.gateway}
    if not named:
        return [version for version in (4, 6) if _home_there(index, vlan, version, None) is not None]
    return [
        version for version in (4, 6) if version in named or (vlan is not None and others_ask(index, vlan, version))
    ]


def _home_there(index: NetworkIndex, vlan: int | None, version: int, hop: Address | None) -> Held | None:
    """Who routes in a VLAN, in a family: who holds a host's gateway, where one does, else the first."""
    homes = [
        holder
        for holder in index.routed()
        if vlan is not None and holder.address.version == version and vlan_of(index, holder) == vlan
    ]
    return min(homes, key=lambda home: home.address.address != hop, default=None)


def device_unaddressed(node: Node, version: int) -> Finding:
    """A device that is to send or answer, without an address of a family: where it is managed, a person decides."""
    family = f"IPv{version}"
    return finding(
        ADDRESS_MISSING,
        at=node.name,
        path=node_path(node),
        says=f"{node.name} has no {family} address on any interface",
        mend=f"give {node.name} an interface with an {family} address in the VLAN that it is managed in",
        name=node.name,
    )


GATEWAY_MISSING = Kind(
    "gateway-missing",
    "error",
    "a host, or a device that does not route, without a gateway",
    "{name} answers nobody outside its own subnet",
    OFTEN,
    example=Example("pier", "devices: {quay: {gateway: ~}}"),
)


def gateway_missing(node: Node, version: int, home: Held | None) -> Finding:
    """A host, or a device that does not route, without a gateway for a family it has an address of."""
    path = node_path(node)
    new = home.address.address if home else None
    return finding(
        GATEWAY_MISSING,
        at=node.name,
        path=path,
        says=f"{node.name} has no IPv{version} gateway",
        mend=f"set the gateway of {node.name} to {new}" if new else f"give {node.name} a gateway in its subnet",
        edits=(with_gateway(node, None, new),) if new else (),
        name=node.name,
    )


GATEWAY_WRONG = Kind(
    "gateway-wrong",
    "error",
    "a gateway that is out of reach, held by nobody, or does not route",
    "{name} answers nobody outside its own subnet",
    OFTEN,
    example=Example("pier", "devices: {quay: {gateway: 10.44.0.1}}"),
)


def gateway_wrong(node: Node, hop: NextHop, home: Held | None, why: str, alone: bool = False) -> Finding:
    """A gateway that cannot serve: outside the own subnet, held by nobody, or held by something that forwards
    nothing. Where the host is `alone` against its gateway, that may be the one that is wrong."""
    path = node_path(node)
    new = home.address.address if home else None
    if new == hop.address:
        new = None
    return finding(
        GATEWAY_WRONG,
        at=node.name,
        path=(*path, "gateway"),
        says=f"the gateway {hop} of {node.name} {why}",
        mend=f"set the gateway of {node.name} to {new}"
        if new
        else f"give {node.name} a gateway that routes in its subnet",
        edits=(with_gateway(node, hop, new),) if new else (),
        instead=_held_there(home, hop.address) if alone and home is not None and new else (),
        name=node.name,
    )


def _held_there(home: Held, wanted: Address) -> tuple[Mend, ...]:
    """The gateway's interface moved to the address that a host uses, where that is of its subnet."""
    if not home.address.prefix.holds(wanted):
        return ()
    there = InterfaceAddress(wanted.version, wanted.value, home.address.length)
    return (Mend(f"set the address of {label(home)} to {there}", address_moved(home, there)),)


def meant_address(index: NetworkIndex, own: InterfaceAddress, right: Prefix) -> InterfaceAddress | None:
    """The address of a subnet that stands at the same place as one elsewhere, if others name it and nobody holds it."""
    same = same_place(index, own, right)
    return same if same is not None and same.address in index.named_addresses else None


MASK_MISMATCH = Kind(
    "mask-mismatch",
    "error",
    "an address whose prefix length is not that of its subnet",
    "{effect}",
    ALWAYS,
    example=Example("pier", "hosts: {kiosk: {address: 10.44.0.2/25}}"),
)


def mask_mismatch(holder: Held, right: Prefix) -> Finding:
    """An address whose prefix length is not that of its subnet."""
    path = nic_path(holder)
    new = holder.address._replace(length=right.length)
    wide = holder.address.length < right.length
    which, what = ("addresses outside", "neighbours") if wide else ("part of", "addresses elsewhere")
    return finding(
        MASK_MISMATCH,
        at=holder.node.name,
        path=(*path, "address"),
        says=f"{holder.node.name} has {holder.address}, but its subnet is {right}",
        mend=f"set the address of {label(holder)} to {new}",
        edits=(with_address(holder, holder.address, new),),
        effect=f"{holder.node.name} takes {which} its subnet for {what}",
    )


VLAN_WRONG = Kind(
    "vlan-wrong",
    "error",
    "a port that is not in the VLAN of whom is plugged in there: a host, or the port of a router",
    "{name} and its subnet do not hear each other",
    ALWAYS,
    example=Example("pier", "devices: {quay: {ports: {p1: {access: crew}}}}"),
)


def vlan_wrong(index: NetworkIndex, device: str, attachment: Attachment, name: str, right: int) -> Finding:
    """A port that is not in the VLAN of the subnet of whom is plugged in there: a host, or the port of a router."""
    actual = wanted_vlan(attachment)
    path = port_path(index.knowledge, device, attachment.name)
    written = attachment.written
    key = index.vlan_key(right)
    where = f"in {index.vlan_name(actual)}" if actual else "a trunk without an untagged VLAN"
    edits = [Edit((*path, "access"), key)]
    if written.trunk is not None:
        edits = [Edit((*path, "trunk"), REMOVE), *edits]
        if written.untagged is not None:
            edits = [Edit((*path, "untagged"), REMOVE), *edits]
    return finding(
        VLAN_WRONG,
        at=device,
        path=(*path, "access") if written.access else path,
        says=f"{device}/{attachment.name} is {where}, but {name} has an address of {index.vlan_name(right)}",
        mend=f"make {device}/{attachment.name} an access port of {key}",
        edits=tuple(edits),
        name=name,
    )


ADDRESS_UNUSABLE = Kind(
    "address-unusable",
    "error",
    "the broadcast or all-zeros address of a subnet, held or asked for",
    "packets to it are not forwarded (RFC 2644)",
    OFTEN,
    example=Example("pier", "hosts: {desk: {address: 10.44.0.255/24}}"),
)


def address_broadcast(index: NetworkIndex, target: Address, prefix: Prefix) -> Finding:
    """The broadcast or all-zeros address of a subnet, held by somebody or asked for."""
    holder = next(iter(index.holders(target)), None)
    new = wanted_address(index, holder, prefix) if holder else None
    return finding(
        ADDRESS_UNUSABLE,
        at=holder.node.name if holder else "",
        path=nic_path(holder) if holder else (),
        says=f"{target} is the {'broadcast' if target.value == prefix.last else 'all-zeros'} address of {prefix}",
        mend=f"set the address of {label(holder)} to {new}" if holder and new else f"use an address inside {prefix}",
        edits=address_moved(holder, new) if holder else (),
    )


DUPLICATE_ADDRESS = Kind(
    "duplicate-address",
    "error",
    "one address on several interfaces",
    "whoever answers last gets the traffic of all",
    OFTEN,
    example=Example("pier", "hosts: {desk: {address: 10.44.0.2/24}}"),
)


def duplicate_address(index: NetworkIndex, address: Address, holders: tuple[Held, ...]) -> Finding:
    """One address on several interfaces: a host among them gets another, else who sends to that address itself, else a
    loopback, else the one that fewest hosts use, the last written first."""
    hosts = (holder for holder in reversed(holders) if holder.node.kind == "host")
    senders = (holder for holder in reversed(holders) if address in _next_hops_of(holder.node))
    spare = min(reversed(holders), key=lambda holder: (holder.nic.kind != "loopback", _users(index, holder)))
    last = next(hosts, None) or next(senders, spare)
    new = wanted_address(index, last, last.address.prefix)
    if last.nic.kind == "loopback":
        new = free_loopback(index, last)
    names = " and ".join(label(holder) for holder in holders)
    return finding(
        DUPLICATE_ADDRESS,
        at=last.node.name,
        path=(*nic_path(last), "address"),
        says=f"{address} is held by {names}",
        mend=f"set the address of {label(last)} to {new}" if new else f"give {label(last)} an address of its own",
        edits=address_moved(last, new),
        instead=tuple(
            Mend(f"set the address of {label(other)} to {new}", address_moved(other, new))
            for other in holders
            if new is not None and other is not last and other.node.kind == "host"
        ),
    )


def _users(index: NetworkIndex, holder: Held) -> int:
    """How many hosts have the address of an interface for their gateway, in its VLAN."""
    hosts = index.network.hosts.values()
    using = (host for host in hosts if any(hop.address == holder.address.address for hop in host.gateway))
    return sum(index.domains.together((host.name, HOST_PORT), holder.endpoint) for host in using)


def _next_hops_of(node: Node) -> set[Address]:
    """The addresses that a device's own routes lead to: none of them is its own."""
    written = node.written
    return {route.next_hop.address for route in written.routes} if isinstance(written, Device) else set()


INSIDES_OVERLAP = Kind(
    "insides-overlap",
    "risk",
    "a subnet behind an interface that translates it, which is elsewhere, too",
    "neither side can begin with the other",
    NEVER,
    example=Example(
        "pier",
        """
        vlans: {yard: '250'}
        devices:
          quay:
            ports:
              p7: {access: yard}
          pier:
            kind: router
            ports:
              p1: {address: 10.44.5.2/24, source-nat: 10.44.0.0/24}
              p2: {address: 10.44.0.1/24}
            routes:
            - {destination: 0.0.0.0/0, next-hop: 10.44.5.1}
          landing:
            interfaces:
              p1.250: {parent: p1, tag: yard, address: 10.44.5.1/24}
        hosts:
          inner: {at: pier/p2, address: 10.44.0.8/24, gateway: 10.44.0.1}
        cables: [landing/p1 ~ quay/p9, landing/p2 ~ core/p9, core/p8 ~ shed/p9, pier/p1 ~ quay/p7]
        """,
    ),
)


def insides_overlap(apart: Apart) -> Finding:
    """A subnet behind an interface that translates it, which is elsewhere, too."""
    one, other, inside = apart
    return finding(
        INSIDES_OVERLAP,
        at=inside.device,
        path=(*nic_path(one), "address"),
        says=(
            f"{label(one)} with {one.address} and {label(other)} with {other.address} share addresses, and {inside} "
            f"translates what is between them: each is known on its own side only"
        ),
        mend="renumber one of the two subnets, where hosts of both are to talk to each other",
    )


def address_moved(holder: Held, new: InterfaceAddress | None) -> tuple[Edit, ...]:
    if new is None:
        return ()
    return (with_address(holder, holder.address, new),)
