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
    VLANs of each cable; `serving` where each VLAN's gateway is; `spare` the cables that would close a circle. `sharing`
    has the devices that share a VLAN's gateway: where there are any, the spanning tree is relied on, and every cable
    between those who need a VLAN carries it."""

    parent: dict[str, tuple[str, Cable] | None] = field(default_factory=dict)
    depth: dict[str, int] = field(default_factory=dict)
    segment: dict[str, str] = field(default_factory=dict)
    carried: dict[Cable, set[int]] = field(default_factory=dict)
    serving: dict[int, GatewayPlace] = field(default_factory=dict)
    entrance: dict[int, str] = field(default_factory=dict)
    spare: list[Cable] = field(default_factory=list)
    routed: list[Cable] = field(default_factory=list)
    sharing: dict[int, tuple[str, ...]] = field(default_factory=dict)
    hostless: list[int] = field(default_factory=list)

    def is_redundant(self, device: str) -> bool:
        """Whether a device is in a part of the network that has shared gateways, where the tree is relied on."""
        pairs = {name for devices in self.sharing.values() for name in devices}
        return any(self.segment.get(name) == self.segment.get(device) for name in pairs)


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
        any(device in gateway.devices for gateway in draft.brief.gateways)
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
            if gateway.shared:
                wiring.sharing[vlan] = gateway.devices
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
        within = ends[0] != ends[1] and all(name in switching for name in ends)
        if within and cable not in used and not both and not wiring.is_redundant(ends[0]):
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
        if wiring.is_redundant(device):
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
    if wiring.is_redundant(top):
        terminals = {name for name in (top, *devices) if wiring.segment.get(name) == wiring.segment.get(top)}
        for cable in _between(draft, wiring, terminals | set(wiring.sharing.get(vlan, ()))):
            wiring.carried.setdefault(cable, set()).add(vlan)


def _between(draft: Draft, wiring: Wiring, terminals: set[str]) -> list[Cable]:
    """Every cable that lies on a way between some devices, whichever way the tree takes: what is left once dead ends
    are taken away. Over devices that route and are none of them only where there is no way without."""
    if len(terminals) == 1:
        return []
    segment = wiring.segment[next(iter(terminals))]
    every = {name for name, part in wiring.segment.items() if part == segment}
    sharing = {name for devices in wiring.sharing.values() for name in devices}
    near = {name for name in every if name in terminals or name in sharing or not routes(draft, name)}
    for nodes in (near, every):
        cables = [
            cable
            for cable in draft.brief.cables
            if not cable.off and cable.a.device in nodes and cable.b.device in nodes
        ]
        left = _without_dead_ends(cables, terminals)
        if _joined(left, terminals):
            return left
    return []


def _without_dead_ends(cables: list[Cable], terminals: set[str]) -> list[Cable]:
    at: dict[str, list[Cable]] = {}
    for cable in cables:
        for end in cable.ends:
            at.setdefault(end.device, []).append(cable)
    gone: set[Cable] = set()
    queue = [name for name, own in at.items() if len(own) == 1 and name not in terminals]
    for name in queue:
        for cable in at[name]:
            if cable not in gone:
                gone.add(cable)
                far = cable.b.device if cable.a.device == name else cable.a.device
                at[far] = [own for own in at[far] if own != cable]
                if len(at[far]) == 1 and far not in terminals:
                    queue.append(far)
    return [cable for cable in cables if cable not in gone]


def _joined(cables: list[Cable], devices: set[str]) -> bool:
    """Whether some devices hang together over some cables."""
    reached = {next(iter(devices))}
    grows = True
    while grows:
        more = {end.device for cable in cables if {e.device for e in cable.ends} & reached for end in cable.ends}
        grows = not more <= reached
        reached |= more
    return devices <= reached
