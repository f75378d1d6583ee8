"""What switch ports carry: trunks with exactly the VLANs that cross them, access ports for hosts, spares off."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import count

from archipelago.design.draft import Draft
from archipelago.design.wiring import Wiring
from archipelago.model.parts import End, Port


def carry(draft: Draft, wiring: Wiring) -> None:
    """Write the ports at both ends of every switched cable."""
    order = {vlan.id: index for index, vlan in enumerate(draft.brief.vlans.values())}
    kinds = draft.brief.devices
    for cable in draft.brief.cables:
        if cable in wiring.routed:
            continue
        vlans = sorted(wiring.carried.get(cable, ()), key=lambda vlan: (order.get(vlan, len(order)), vlan))
        whole = next(
            (
                vlan
                for vlan, gateway in wiring.serving.items()
                if gateway.untagged and gateway.port and End(gateway.device, gateway.port) in (cable.a, cable.b)
            ),
            None,
        )
        for end in (cable.a, cable.b):
            if kinds[end.device].kind == "router":
                draft.ports[end.device].setdefault(end.port, Port(end.port))
            elif cable in wiring.spare:
                draft.set_port(end, Port(end.port, off=True))
            elif whole is not None:
                draft.set_port(end, Port(end.port, access=whole))
            else:
                draft.set_port(end, Port(end.port, trunk=tuple(vlans), untagged=draft.brief.conventions.untagged))
        if cable in wiring.spare:
            draft.decide(str(cable), "kept off", "it would close a circle; spanning tree is not relied on")
        elif whole is None:
            names = ", ".join(draft.name_of(vlan) for vlan in vlans) or "nothing"
            draft.decide(str(cable), f"trunk of {names}", "the VLANs that both sides need")
    for vlan in wiring.hostless:
        draft.decide(draft.name_of(vlan), "carried to every switch", "no host of it is placed yet")
    for host, end in draft.host_ends.items():
        if kinds[end.device].kind != "router":
            draft.set_port(end, Port(end.port, access=draft.brief.hosts[host].vlan))
    for need in draft.brief.vlans.values():
        for device, port in need.at:
            if port is not None and End(device, port) not in draft.used:
                draft.set_port(End(device, port), Port(port, access=need.id))


def plug(draft: Draft) -> None:
    """Find a port for every host; one that names only a device takes its next free port."""
    brief = draft.brief
    draft.used = {end for cable in brief.cables for end in (cable.a, cable.b)}
    draft.used |= {End(host.device, host.port) for host in brief.hosts.values() if host.port}
    if brief.outside is not None:
        draft.used.add(brief.outside.at)
    for name, host in brief.hosts.items():
        if host.port:
            draft.host_ends[name] = End(host.device, host.port)
            continue
        kept = draft.old.hosts[name].at if draft.old and name in draft.old.hosts else None
        if kept and kept.device == host.device and kept not in draft.used:
            draft.host_ends[name] = kept
            draft.used.add(kept)
    left: dict[str, Iterator[str]] = {}
    for name, host in brief.hosts.items():
        if name in draft.host_ends:
            continue
        if host.device not in left:
            ports = brief.devices[host.device].ports
            left[host.device] = iter(ports) if ports is not None else (f"p{number}" for number in count(1))
        free = next((port for port in left[host.device] if End(host.device, port) not in draft.used), None)
        if free is None:
            draft.reasons.append(
                f"{host.device} has no free port left for host '{name}'; give it more ports or move a host"
            )
            continue
        draft.host_ends[name] = End(host.device, free)
        draft.used.add(draft.host_ends[name])
        draft.decide(name, f"at {draft.host_ends[name]}", f"the next free port of {host.device}")
