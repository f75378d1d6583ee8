"""Which cables carry which VLANs: a tree of switches, and on it the way from each VLAN's gateway to its hosts."""

from __future__ import annotations

import heapq
from dataclasses import dataclass, field

from archipelago.design.draft import Draft
from archipelago.model.brief import GatewayPlace
from archipelago.model.parts import Cable, End


@dataclass(slots=True)
class Wiring:
    """`parent` is the tree: for each switching device the device above it and the cable between. `carried` holds the
    VLANs of each cable; `serving` where each VLAN's gateway is; `spare` the cables that would close a circle."""

    parent: dict[str, tuple[str, Cable] | None] = field(default_factory=dict)
    depth: dict[str, int] = field(default_factory=dict)
    segment: dict[str, str] = field(default_factory=dict)
    carried: dict[Cable, set[int]] = field(default_factory=dict)
    serving: dict[int, GatewayPlace] = field(default_factory=dict)
    entrance: dict[int, str] = field(default_factory=dict)
    spare: list[Cable] = field(default_factory=list)
    routed: list[Cable] = field(default_factory=list)
    hostless: list[int] = field(default_factory=list)


def wire(draft: Draft) -> Wiring:
    """Decide which VLANs every cable carries. What has no path to its gateway is a reason not to build."""
    brief = draft.brief
    wiring = Wiring()
    peers = {end: (other, cable) for cable in brief.cables for end, other in ((cable.a, cable.b), (cable.b, cable.a))}
    for gateway in brief.gateways:
        _serve(draft, wiring, gateway, peers)
    for name, vlan in brief.vlans.items():
        if vlan.id not in wiring.serving and (vlan.hosts or any(h.vlan == vlan.id for h in brief.hosts.values())):
            draft.reasons.append(
                f"VLAN '{name}' has no gateway; add it to the 'for' of one under 'gateways', "
                f"such as {{for: {name}, at: ROUTER/PORT}}"
            )
    _grow(draft, wiring)
    terminals: dict[int, set[str]] = {vlan.id: set() for vlan in brief.vlans.values()}
    for host in brief.hosts.values():
        if brief.devices[host.device].kind != "router":
            terminals.setdefault(host.vlan, set()).add(host.device)
    for need in brief.devices.values():
        if need.manage is not None:
            terminals[need.manage].add(need.name)
    for vlan in brief.vlans.values():
        terminals[vlan.id].update(device for device, _ in vlan.at)
        if not terminals[vlan.id] and vlan.id in wiring.entrance:
            wiring.hostless.append(vlan.id)
            home = wiring.segment[wiring.entrance[vlan.id]]
            terminals[vlan.id].update(
                name
                for name, need in brief.devices.items()
                if need.kind == "switch" and wiring.segment.get(name) == home
            )
    for number, devices in terminals.items():
        carry_vlan(draft, wiring, number, sorted(devices))
    for cable in brief.cables:
        if routes(draft, cable.a.device) and routes(draft, cable.b.device) and not wiring.carried.get(cable):
            wiring.routed.append(cable)
    return wiring


def routes(draft: Draft, device: str) -> bool:
    """Whether a device routes in this design: routers do, an l3switch does where it holds a gateway."""
    kind = draft.brief.devices[device].kind
    if kind == "router":
        return True
    outside = draft.brief.outside
    return kind == "l3switch" and (
        any(gateway.device == device for gateway in draft.brief.gateways)
        or (outside is not None and outside.at.device == device)
    )


def _serve(draft: Draft, wiring: Wiring, gateway: GatewayPlace, peers: dict[End, tuple[End, Cable]]) -> None:
    for vlan in gateway.vlans:
        if vlan in wiring.serving:
            first = wiring.serving[vlan]
            where = f"{first.device}/{first.port}" if first.port else first.device
            draft.reasons.append(
                f"VLAN '{draft.name_of(vlan)}' has its gateway at {where} already; "
                "keep it in one of the two 'for' lists"
            )
            continue
        wiring.serving[vlan] = gateway
        if gateway.port is None:
            wiring.entrance[vlan] = gateway.device
            continue
        end = End(gateway.device, gateway.port)
        if end not in peers:
            plugged = next(
                (
                    host.name
                    for host in draft.brief.hosts.values()
                    if host.device == end.device and host.port == end.port
                ),
                None,
            )
            if plugged and gateway.untagged and len(gateway.vlans) == 1:
                continue
            draft.reasons.append(
                f"the gateway of '{draft.name_of(vlan)}' is at {end}, which no cable goes to; "
                f"add a cable such as '{end} ~ SWITCH/PORT'"
            )
            continue
        far, cable = peers[end]
        if draft.brief.devices[far.device].kind == "router":
            draft.reasons.append(
                f"the gateway of '{draft.name_of(vlan)}' is at {end}, but {far.device} at the other end of its cable "
                f"is a router, which carries no VLANs; cable {end} to a switch"
            )
            continue
        wiring.entrance[vlan] = far.device
        wiring.carried.setdefault(cable, set()).add(vlan)
    if gateway.untagged and len(gateway.vlans) != 1:
        draft.reasons.append(
            f"the gateway at {gateway.device}/{gateway.port} is untagged but serves {len(gateway.vlans)} VLANs; "
            "an untagged port serves one: list the others under another port, or leave 'untagged' out"
        )


def _grow(draft: Draft, wiring: Wiring) -> None:
    """A tree over the switching devices of each connected part, from where its gateways are; cables between two
    devices that route are used last, so that they can become routed links (Prim's algorithm)."""
    brief = draft.brief
    near: dict[str, list[tuple[str, Cable]]] = {}
    switching = [name for name, need in brief.devices.items() if need.kind != "router"]
    for cable in brief.cables:
        a, b = cable.a.device, cable.b.device
        if cable.off or a not in switching or b not in switching:
            continue
        if a == b:
            wiring.spare.append(cable)
            continue
        near.setdefault(a, []).append((b, cable))
        near.setdefault(b, []).append((a, cable))
    roots = list(dict.fromkeys([*wiring.entrance.values(), *switching]))
    for root in roots:
        if root in wiring.parent:
            continue
        queue: list[tuple[int, int, str, tuple[str, Cable] | None]] = [(0, 0, root, None)]
        order = 0
        while queue:
            _, _, name, above = heapq.heappop(queue)
            if name in wiring.parent:
                continue
            wiring.parent[name] = above
            wiring.segment[name] = root
            wiring.depth[name] = wiring.depth[above[0]] + 1 if above else 0
            for far, cable in near.get(name, ()):
                if far not in wiring.parent:
                    order += 1
                    both = routes(draft, name) and routes(draft, far)
                    heapq.heappush(queue, (int(both), order, far, (name, cable)))
    used = {above[1] for above in wiring.parent.values() if above is not None}
    for cable in brief.cables:
        ends = (cable.a.device, cable.b.device)
        both = all(routes(draft, name) for name in ends)
        if ends[0] != ends[1] and all(name in switching for name in ends) and cable not in used and not both:
            wiring.spare.append(cable)


def carry_vlan(draft: Draft, wiring: Wiring, vlan: int, devices: list[str]) -> None:
    """Let the cables between a VLAN's devices and its gateway carry it."""
    if not devices:
        return
    top = wiring.entrance.get(vlan, devices[0])
    reached = {top}
    for device in devices:
        if wiring.segment.get(device) != wiring.segment.get(top):
            where = wiring.serving.get(vlan)
            place = f"{where.device}/{where.port}" if where and where.port else top
            draft.reasons.append(
                f"VLAN '{draft.name_of(vlan)}' has no path over switches from {device} to its gateway at {place}; "
                "add a cable that joins them, or place the gateway nearer"
            )
            continue
        a, b = device, top
        while a != b and a not in reached:
            lower = a if wiring.depth[a] >= wiring.depth[b] else b
            above = wiring.parent[lower]
            assert above is not None
            wiring.carried.setdefault(above[1], set()).add(vlan)
            if lower == a:
                reached.add(a)
                a = above[0]
            else:
                b = above[0]
