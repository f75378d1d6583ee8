"""Off, or not plugged in; circles; what has no explanation."""

from __future__ import annotations

from archipelago.diagnosis.faults.words import node_path
from archipelago.diagnosis.picture import Picture, port_path
from archipelago.knowledge.devices import Node
from archipelago.knowledge.domains import Loop
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.network import Cable, End, Path


def switched_off(path: Path, what: str, at: str, breaks: str) -> Finding:
    """A port, interface, device, host or cable that is administratively off."""
    return Finding(
        "admin-down",
        "error",
        at,
        (*path, "off"),
        f"{what} is off",
        breaks,
        f"switch {what} on",
        (Edit((*path, "off"), REMOVE),),
    )


def not_cabled(view: Picture, end: End, partner: End | None) -> Finding:
    """A port that is set up for traffic and has no cable; told of the end whose name comes first."""
    if partner is not None:
        end, partner = sorted((end, partner))
    path = (
        port_path(view.knowledge, end.device, end.port) if end.device in view.network.devices else ("hosts", end.device)
    )
    mend = f"cable {end} to {partner}" if partner else f"cable {end} to the device that it should reach"
    edits = (Edit(("cables", "+"), f"{end} ~ {partner}"),) if partner else ()
    return Finding(
        "not-cabled", "error", end.device, path, f"{end} is set up but not cabled", "nothing crosses it", mend, edits
    )


def no_way(view: Picture, vlan: int, node: Node, far: Node) -> Finding:
    """No row of cables leads from one to the other over devices that could pass the VLAN on."""
    return Finding(
        "no-layer2-path",
        "error",
        far.name,
        node_path(far),
        f"no cables over switches join {node.name} and {far.name}, which share {view.vlan_name(vlan)}",
        f"{view.vlan_name(vlan)} is on two islands",
        f"cable them together, or give {node.name} a gateway on its own side",
    )


def switching_loop(view: Picture, loop: Loop) -> Finding:
    """A circle of cables in one VLAN; spanning tree is not simulated."""
    names = ", ".join(str(cable) for cable in loop.cables) or "one device cabled to itself"
    device, vlan = loop.foot
    edits: tuple[Edit, ...] = ()
    mend = "take one cable of the circle out"
    path: Path = ("devices", device)
    if loop.cables:
        index = max(view.network.cables.index(cable) for cable in loop.cables)
        cable = view.network.cables[index]
        mend = f"take cable {cable} out, or keep VLAN {vlan} off it"
        edits = (Edit(("cables", index), {"ends": str(cable), "off": "true"}),)
        path = ("cables", index)
    return Finding(
        "switching-loop",
        "error",
        str(device),
        path,
        f"{view.vlan_name(vlan) if isinstance(vlan, int) else vlan} runs in a circle over {names}",
        "the first broadcast never ends and takes the VLAN down",
        mend,
        edits,
    )


def cable_off(view: Picture, cable: Cable) -> Finding:
    index = view.network.cables.index(cable)
    found = switched_off(("cables", index), f"cable {cable}", cable.a.device, "nothing crosses it")
    return Finding(
        found.slug,
        found.severity,
        found.at,
        found.path,
        found.says,
        found.breaks,
        found.mend,
        (Edit(("cables", index), str(cable)),),
    )


def unexplained(at: str, says: str) -> Finding:
    return Finding(
        "unexplained", "error", at, (), says, "the packet ends there", "look at the steps: --steps shows every event"
    )
