"""Findings about filters."""

from __future__ import annotations

from archipelago.addressing.values import WIDTHS, Address, Prefix
from archipelago.diagnosis.catalogue import finding
from archipelago.diagnosis.stop import Stop
from archipelago.knowledge.devices import Node
from archipelago.model.filters import Filter, prefix_text
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import Device, Path

_DOES = {"drop": "drops", "reject": "rejects"}


def filtered(node: Node, stop: Stop) -> Finding:
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
    return finding("filtered", at=node.name, path=path, says=says, mend=mend, edits=edits)


def filter_unnamed(device: Device, filter_: Filter) -> Finding:
    """A filter that no interface names."""
    path: Path = ("devices", device.name, "filters", filter_.name)
    says = f"no interface of {device.name} names the filter {filter_.name}"
    mend = f"write filter-in or filter-out: {filter_.name} at an interface of {device.name}, or remove it"
    return finding("filter-unnamed", at=device.name, path=path, says=says, mend=mend)


def management_filtered(device: Device, filters: list[str]) -> Finding:
    """Filters at all interfaces of a device that end whatever it could be managed by."""
    names = ", ".join(dict.fromkeys(filters))
    ended = f"{names} at its interfaces end it"
    return finding(
        "management-filtered",
        at=device.name,
        path=("devices", device.name, "filters", filters[0]),
        says=f"no host gets through to {device.name} itself by tcp/22, tcp/443 or udp/161: {ended}",
        mend=f"let who manages {device.name} in: a line {{accept: tcp/22, source: ..., destination: its address}}",
        device=device.name,
    )


def line_hidden(device: Device, filter_: Filter, earlier: int, number: int) -> Finding:
    """A line that an earlier one leaves nothing to; both by their places from 0."""
    path: Path = ("devices", device.name, "filters", filter_.name, "rules", number)
    before, line = filter_.rules[earlier], filter_.rules[number]
    says = f"line {number + 1} of {filter_.name} ({line}) never decides: line {earlier + 1} ({before}) takes all of it"
    if before.action == line.action:
        mend = f"remove line {number + 1} of {filter_.name} on {device.name}"
        return finding("line-unneeded", at=device.name, path=path, says=says, mend=mend, edits=(Edit(path, REMOVE),))
    mend = f"put line {number + 1} of {filter_.name} before line {earlier + 1}, where it is meant, or remove it"
    return finding("line-hidden", at=device.name, path=path, says=says, mend=mend, does=line.action)


def line_unmet(device: Device, filter_: Filter, number: int, interfaces: list[str]) -> Finding:
    """A line, by its place from 0, that no packet meets where its filter stands."""
    places = " and ".join(dict.fromkeys(f"{device.name}/{interface}" for interface in interfaces))
    return finding(
        "line-unmet",
        at=device.name,
        path=("devices", device.name, "filters", filter_.name, "rules", number),
        says=(
            f"no packet that line {number + 1} of {filter_.name} ({filter_.rules[number].text(3)}) speaks of passes "
            f"{places}: what it names goes another way"
        ),
        mend=f"put the line into a filter where that passes, or remove line {number + 1} of {filter_.name}",
        does=filter_.rules[number].action,
    )


def filter_idle(
    where: tuple[Node, str, str], filter_: Filter, passes: str = "", edits: tuple[Edit, ...] = ()
) -> Finding:
    """A filter that no traffic comes to, at an interface, on its way in or out; `passes` is the interface where the
    traffic passes instead, `edits` what moves it there."""
    node, interface, way = where
    section = "interfaces" if isinstance(node.written, Device) and interface in node.written.interfaces else "ports"
    path: Path = ("devices", node.name, section, interface, f"filter-{way}")
    says = f"nothing that hosts send comes to filter {filter_.name} at {node.name}/{interface} ({way})"
    mend = f"move it to {passes}" if edits else "put it where the traffic passes"
    mend = mend if edits else f"{mend}, at {passes}, or remove it" if passes else f"{mend}, or remove it"
    return finding("filter-idle", at=node.name, path=path, says=says, mend=mend, edits=edits)


def _added(node: Node, path: Path, line: dict[str, str]) -> Edit:
    """A line after the last; of a filter without lines, the first."""
    device = node.written
    assert isinstance(device, Device)
    if device.filters[str(path[3])].rules:
        return Edit((*path, "rules", "+"), line)
    return Edit((*path, "rules"), [line])


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
