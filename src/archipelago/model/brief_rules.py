"""What must hold in a brief, whoever writes it down."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import TYPE_CHECKING

from archipelago.addressing.values import parse_address
from archipelago.errors import AddressError, ModelProblem
from archipelago.model.parts import End, Path
from archipelago.model.problems import Catalogue, Names, Problems, held_problems, vlan_problems
from archipelago.model.rules import (
    NamedParts,
    catalogue_problems,
    demand_problems,
    expectation_problems,
    named_problems,
    plug_problems,
    policy_problems,
    word_problems,
)

if TYPE_CHECKING:
    from archipelago.model.brief import Brief, GatewayPlace

    Place = tuple[str, str | None]


def brief_problems(brief: Brief, left_out: Collection[str] = ()) -> Problems:
    """Everything wrong in a brief.

    Args:
        brief: the brief, as far as it is there.
        left_out: names that were written and not understood.
    """
    names = Names(left_out)
    ids = Catalogue.of({name: vlan.id for name, vlan in brief.vlans.items()})
    yield from catalogue_problems(ids.names)
    yield from named_problems(brief.vlans, "vlans")
    yield from named_problems(brief.devices, "devices")
    yield from named_problems(brief.hosts, "hosts")
    yield from word_problems(brief.devices, "devices")
    yield from word_problems(brief.hosts, "hosts")
    for name, vlan in brief.vlans.items():
        if vlan.later and vlan.later < vlan.hosts:
            message = (
                f"there are {vlan.hosts:,} hosts today and fewer later; write how many there will be, or leave it out"
            )
            yield ModelProblem(("vlans", name, "later"), message)
        if not vlan.families:
            yield ModelProblem(
                ("vlans", name, "families"), "a VLAN has a subnet of at least one family; write 4, 6 or both"
            )
        for at in vlan.at:
            yield from _place_problems(("vlans", name, "at"), at, brief, names)
    for name, device in brief.devices.items():
        yield from vlan_problems(("devices", name, "manage"), device.manage, ids)
    for number, gateway in enumerate(brief.gateways):
        yield from _gateway_problems(gateway.path or ("gateways", number), gateway, brief, ids, names)
    for name, host in brief.hosts.items():
        path: Path = ("hosts", name)
        yield from vlan_problems((*path, "vlan"), host.vlan, ids)
        yield from held_problems(path, host.addresses)
        yield from _place_problems((*path, "at"), host.place, brief, names)
        if name in brief.devices:
            yield ModelProblem(path, f"'{name}' is a device too; hosts and devices have names of their own", True)
    untagged = brief.conventions.untagged
    yield from vlan_problems(("conventions", "untagged"), untagged if isinstance(untagged, int) else None, ids)
    for number, cable in enumerate(brief.cables):
        if cable.a.device == cable.b.device:
            message = f"{cable} joins '{cable.a.device}' to itself; a cable joins two devices"
            yield ModelProblem(("cables", number), message)
    uses = list(_uses(brief))
    for where, end, _ in uses:
        if end.device in brief.devices and where[0] != "hosts":
            yield from _place_problems(where, end, brief, names)
    yield from plug_problems(uses, brief.devices, names)
    known = NamedParts(ids.names, brief.hosts, dict.fromkeys(brief.devices))
    yield from expectation_problems(brief.expect, known, names)
    yield from demand_problems(brief.traffic, known, names)
    if brief.policy is not None:
        yield from policy_problems(brief.policy, known, names)
    yield from _server_problems(brief, names)
    if brief.outside is not None and brief.outside.source_nat:
        yield from _translation_problems(brief)


def _server_problems(brief: Brief, names: Names) -> Problems:
    """Who leases addresses is a host or a device that can; name servers are hosts or IPv4 addresses."""
    path: Path = ("conventions", "server")
    server = brief.conventions.server
    if server not in (None, "gateway"):
        device = brief.devices.get(server)
        if device is not None and device.kind == "switch":
            yield ModelProblem(path, f"switch '{server}' leases nothing; name a router, an l3switch or a host")
        elif server in brief.hosts and brief.hosts[server].dhcp:
            yield ModelProblem(
                path, f"'{server}' leases its own address; a server's is written, or decided by the design"
            )
        elif device is None:
            yield from names.unknown(path, server, [*brief.hosts, *brief.devices, "gateway"], "host or device")
    for number, named in enumerate(brief.conventions.dns_server):
        if named not in brief.hosts:
            where: Path = ("conventions", "dns-server", number)
            try:
                address = parse_address(named)
            except AddressError:
                yield from names.unknown(where, named, brief.hosts, "host")
            else:
                if address.version != 4:
                    yield ModelProblem(where, f"{address} is not IPv4; leases are for IPv4 (RFC 2131)")


def _translation_problems(brief: Brief) -> Problems:
    """Addresses are translated by a router, from its own IPv4 address; the outside is then an end of the matrix."""
    assert brief.outside is not None
    path: Path = ("outside", "source-nat")
    device = brief.devices.get(brief.outside.at.device)
    if device is not None and device.kind != "router":
        yield ModelProblem(path, f"'{brief.outside.at.device}' is no router; only routers translate addresses")
    if not any(address.version == 4 for address in brief.outside.addresses):
        yield ModelProblem(path, "packets leave with the port's own IPv4 address, and it has none; write one")


def _uses(brief: Brief) -> Iterator[tuple[Path, End, object]]:
    for number, cable in enumerate(brief.cables):
        yield ("cables", number), cable.a, f"cable {cable}"
        yield ("cables", number), cable.b, f"cable {cable}"
    for name, host in brief.hosts.items():
        if host.port is not None:
            yield ("hosts", name, "at"), End(host.device, host.port), f"host {name}"
    if brief.outside is not None:
        yield ("outside", "at"), brief.outside.at, "the outside"


def _place_problems(path: Path, at: tuple[str, str | None], brief: Brief, names: Names) -> Problems:
    """A device that is not there, or a port that it does not have."""
    name, port = at
    if name not in brief.devices:
        yield from names.unknown(path, name, brief.devices, "device")
        return
    ports = brief.devices[name].ports
    if port is not None and ports is not None and port not in ports:
        shown = f"{ports[0]} to {ports[-1]}" if ports else "none"
        yield ModelProblem(path, f"'{name}' has no port '{port}'; its ports: {shown}")


def _gateway_problems(path: Path, gateway: GatewayPlace, brief: Brief, ids: Catalogue, names: Names) -> Problems:
    for number, vlan in enumerate(gateway.vlans):
        yield from vlan_problems((*path, "for", number), vlan, ids)
    for place in gateway.places:
        yield from _place_problems((*path, "at"), place, brief, names)
    if gateway.shared or gateway.partners:
        yield from _shared_problems(path, gateway, brief)
        return
    if gateway.spread:
        yield ModelProblem((*path, "spread"), "what is spread is shared: write 'shared: true' too")
    name, port = gateway.places[0]
    kind = brief.devices[name].kind if name in brief.devices else ""
    if kind == "router" and port is None:
        yield ModelProblem((*path, "at"), f"'{name}' is a router: name the port too, such as {name}/p1")
    elif kind == "l3switch" and port is not None:
        message = f"'{name}' is an l3switch: its gateways are VLAN interfaces; write 'at: {name}'"
        yield ModelProblem((*path, "at"), message)
    elif kind == "switch":
        message = f"'{name}' is a layer 2 switch; gateways live on a router's port or an l3switch"
        yield ModelProblem((*path, "at"), message)


def _shared_problems(path: Path, gateway: GatewayPlace, brief: Brief) -> Problems:
    """Gateways are shared by two l3switches or more, each named once."""
    if not gateway.shared:
        message = f"the gateways are at {len(gateway.places)} places; write 'shared: true' where they share them"
        yield ModelProblem((*path, "at"), message)
    if len(set(gateway.devices)) < 2 or len(set(gateway.devices)) < len(gateway.places):
        yield ModelProblem((*path, "at"), "shared gateways are at two l3switches or more, each named once")
    for name, port in gateway.places:
        kind = brief.devices[name].kind if name in brief.devices else ""
        if kind and (kind != "l3switch" or port is not None):
            message = f"'{name}{'/' + port if port else ''}' is no l3switch; shared gateways live on l3switches"
            yield ModelProblem((*path, "at"), message)
    if gateway.untagged:
        yield ModelProblem(
            (*path, "untagged"), "shared gateways are VLAN interfaces; 'untagged' is for a router's port"
        )
