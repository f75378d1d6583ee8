"""A packet that a filter ended."""

from __future__ import annotations

from archipelago.addressing.values import WIDTHS, Address, Prefix
from archipelago.diagnosis.kind import OFTEN, Kind, finding
from archipelago.diagnosis.outvoted import stray_address
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.filters import prefix_text
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import Device, Host, Path

_DOES = {"drop": "drops", "reject": "rejects"}


def filtered(index: NetworkIndex, node: Node, stop: Stop) -> Finding:
    """The line that decided. What it ends may be meant to end: whether that is a mistake is for the plan to say. Where
    an address of either end is astray, a right filter does not know it."""
    assert stop.refusal is not None
    for address in (stop.source, stop.target):
        holders = index.holders(address)
        host = holders[0].node.written if len(holders) == 1 else None
        astray = stray_address(index, host, address.version) if isinstance(host, Host) else None
        if astray is not None:
            return astray
    return ended_by_filter(node, stop)


FILTERED = Kind(
    "filtered",
    "note",
    "a filter ends what is asked about; whether that is meant, the plan says",
    "nothing that is not meant to end",
    OFTEN,
)


def ended_by_filter(node: Node, stop: Stop) -> Finding:
    """A filter ends a probe, or the answer to one."""
    refusal = stop.refusal
    assert refusal is not None
    judged = refusal.judged
    path: Path = ("devices", node.name, "filters", refusal.filter)
    where = f"filter {refusal.filter} at {node.name}/{refusal.interface} ({refusal.way})"
    what = f"the answer to {stop.probe}" if stop.direction == "back" else str(stop.probe)
    says = f"{where}, {refusal.line_text}, {_DOES[judged.action]} {what} from {stop.source} to {stop.target}"
    device = node.written
    if stop.direction == "back" and isinstance(device, Device) and device.filters[refusal.filter].stateful:
        says += f"; it is stateful, and the question did not pass {node.name}"
    line = _line(stop)
    told = ", ".join(f"{key}: {value}" for key, value in line.items())
    edits: tuple[Edit, ...] = ()
    if judged.line is None:
        mend, edits = f"add the line {{{told}}} to {refusal.filter} on {node.name}", (_added(node, path, line),)
    else:
        mend = f"where it is to pass, put the line {{{told}}} before line {judged.line} of {refusal.filter}"
        path = (*path, "rules", judged.line - 1)
    return finding(FILTERED, at=node.name, path=path, says=says, mend=mend, edits=edits)


def _line(stop: Stop) -> dict[str, str]:
    """The narrowest line that lets what was stopped pass."""
    line: dict[str, str] = {}
    probe = stop.probe
    answers = stop.direction == "back"
    if probe.protocol == "icmp":
        line = {"accept": "icmp", "icmp-type": "reply" if answers else "request"}
    elif not answers:
        line = {"accept": str(probe)}
    else:
        line = {"accept": probe.protocol, "source-port": str(probe.port)}
        if probe.protocol == "tcp":
            line["answering"] = "true"
    return {**line, "source": _alone(stop.source), "destination": _alone(stop.target)}


def _alone(address: Address) -> str:
    return prefix_text(Prefix(address.version, address.value, WIDTHS[address.version]))


def _added(node: Node, path: Path, line: dict[str, str]) -> Edit:
    """A line after the last; of a filter without lines, the first."""
    device = node.written
    assert isinstance(device, Device)
    if device.filters[str(path[3])].rules:
        return Edit((*path, "rules", "+"), line)
    return Edit((*path, "rules"), [line])
