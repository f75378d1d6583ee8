"""Off, or not plugged in; circles; what has no explanation."""

from __future__ import annotations

from archipelago.diagnosis.kind import ALWAYS, NEVER, OFTEN, Example, Kind, finding
from archipelago.diagnosis.places import port_path
from archipelago.knowledge.domains import Loop
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.topology import far_end
from archipelago.model.finding import REMOVE, Edit, Finding, Mend
from archipelago.model.parts import Cable, End, Path, Subinterface

ADMIN_DOWN = Kind(
    "admin-down",
    "error",
    "a port, interface, device, host or cable that is switched off",
    "{effect}",
    ALWAYS,
    example=Example("pier", "devices: {quay: {ports: {p3: {'off': true}}}}"),
)


def admin_down(path: Path, what: str, at: str, breaks: str) -> Finding:
    """A port, interface, device, host or cable that is administratively off."""
    return finding(
        ADMIN_DOWN,
        at=at,
        path=(*path, "off"),
        says=f"{what} is off",
        mend=f"switch {what} on",
        edits=(Edit((*path, "off"), REMOVE),),
        effect=breaks,
    )


NOT_CABLED = Kind(
    "not-cabled",
    "error",
    "a port that is set up for traffic and has no cable",
    "nothing crosses it",
    OFTEN,
    example=Example("pier", "cables: [landing/p1 ~ quay/p9, core/p8 ~ shed/p9]"),
)


def not_cabled(index: NetworkIndex, end: End, partner: End | None) -> Finding:
    """A port that is set up for traffic and has no cable; told of the end whose name comes first."""
    if partner is not None:
        end, partner = sorted((end, partner))
    path = (
        port_path(index.knowledge, end.device, end.port)
        if end.device in index.network.devices
        else ("hosts", end.device)
    )
    mend = f"cable {end} to {partner}" if partner else f"cable {end} to the device that it should reach"
    edits: tuple[Edit, ...] = (Edit(("cables", "+"), f"{end} ~ {partner}"),) if partner else ()
    children = _subinterfaces_meant_elsewhere(index, end) if partner is None else {}
    if children:
        device = index.network.devices[end.device]
        edits = tuple(Edit(("devices", device.name, "interfaces", name, "parent"), to) for name, to in children.items())
        mend = "; and ".join(f"set the parent of {device.name}/{name} to {to}" for name, to in children.items())
    return finding(NOT_CABLED, at=end.device, path=path, says=f"{end} is set up but not cabled", mend=mend, edits=edits)


def _subinterfaces_meant_elsewhere(index: NetworkIndex, end: End) -> dict[str, str]:
    """All subinterfaces of a port that nothing is plugged into, each with the one port of the device by which its VLAN
    comes tagged, and where it has no subinterface; nothing where that is not so of each."""
    device = index.network.devices.get(end.device)
    if device is None:
        return {}
    node = index.knowledge.devices[device.name]
    own = [one for one in device.interfaces.values() if isinstance(one, Subinterface) and one.parent == end.port]
    meant: dict[str, str] = {}
    for one in own:
        places = []
        for attachment in node.attachments.values():
            far = far_end(index.knowledge.devices, attachment) if not attachment.switched else None
            if far is None or far.peer.device not in index.knowledge.devices or one.tag is None:
                continue
            there = index.knowledge.devices.attachment_at(far.peer)
            taken = any(nic.tag == one.tag for nic in node.nics_on(attachment.name))
            if there.switched and one.tag in there.vlans and there.untagged != one.tag and not taken:
                places.append(attachment.name)
        if len(places) == 1:
            meant[one.name] = places[0]
    return meant if len(meant) == len(own) else {}


SWITCHING_LOOP = Kind(
    "switching-loop",
    "error",
    "cables that carry one VLAN in a circle",
    "the first broadcast never ends and takes the VLAN down",
    OFTEN,
    example=Example(
        "pier",
        """
        devices:
          core:
            spanning-tree: 'off'
            ports:
              p7:
                trunk: [cameras]
                untagged: none
          shed:
            spanning-tree: 'off'
            ports:
              p7:
                trunk: [cameras]
                untagged: none
        cables: [landing/p1 ~ quay/p9, landing/p2 ~ core/p9, core/p8 ~ shed/p9, core/p7 ~ shed/p7]
        """,
    ),
)


def switching_loop(index: NetworkIndex, loop: Loop) -> Finding:
    """A circle of cables in one VLAN, over devices that take no part in the spanning tree."""
    names = ", ".join(str(cable) for cable in loop.cables) or "one device cabled to itself"
    device, vlan = loop.endpoint
    edits: tuple[Edit, ...] = ()
    instead: tuple[Mend, ...] = ()
    mend = "take one cable of the circle out"
    path: Path = ("devices", device)
    if loop.cables:
        position = max(index.network.cables.index(cable) for cable in loop.cables)
        cable = index.network.cables[position]
        mend = f"take cable {cable} out, or keep VLAN {vlan} off it"
        edits = (_out(index, cable),)
        instead = tuple(
            Mend(f"take cable {other} out", (_out(index, other),)) for other in loop.cables if other is not cable
        )
        around = dict.fromkeys(end.device for other in loop.cables for end in (other.a, other.b))
        wires = [name for name, one in index.network.devices.items() if name in around and not one.spanning_tree]
        instead += tuple(  # one that takes part is enough: it hears itself, and blocks
            Mend(f"let {name} take part in the spanning tree", (Edit(("devices", name, "spanning-tree"), "on"),))
            for name in wires[:1]
        )
        path = ("cables", position)
    return finding(
        SWITCHING_LOOP,
        at=str(device),
        path=path,
        says=f"{index.vlan_name(vlan) if isinstance(vlan, int) else vlan} runs in a circle over {names}",
        mend=mend,
        edits=edits,
        instead=instead,
    )


def _out(index: NetworkIndex, cable: Cable) -> Edit:
    return Edit(("cables", index.network.cables.index(cable)), {"ends": str(cable), "off": "true"})


UNEXPLAINED = Kind("unexplained", "error", "no rule knows why a packet ends there", "the packet ends there", NEVER)


def unexplained(at: str, says: str) -> Finding:
    return finding(UNEXPLAINED, at=at, path=(), says=says, mend="look at the steps: --steps shows every event")
