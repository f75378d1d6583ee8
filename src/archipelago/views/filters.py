"""Filters as tables: where each sits, and its lines in order; and the conversations that devices know."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from archipelago.knowledge.devices import Node
from archipelago.model.filters import Filter, FilterRule, Ports, prefix_text
from archipelago.model.parts import Device
from archipelago.simulation.build import Simulation
from archipelago.views.table import Table, table


def filters(nodes: Iterable[Node], ports: frozenset[str] = frozenset()) -> Table:
    """Each line of each filter, in the order in which they are asked.

    Args:
        nodes: the devices.
        ports: show only the filters at these interfaces; all where empty.
    """
    rows: list[tuple[object, ...]] = []
    for node in nodes:
        written = node.written
        for name, filter_ in written.filters.items() if isinstance(written, Device) else ():
            places = list(_places(node, filter_))
            if ports and not any(interface in ports for interface, _ in places):
                continue
            where = ", ".join(f"{interface} ({way})" for interface, way in places) or "nowhere: no interface names it"
            title = f"{name}, stateful" if filter_.stateful else name
            for number, rule in enumerate(filter_.rules, 1):
                traffic = ", ".join(map(str, rule.traffic))
                first = (node.name, title, where) if number == 1 else ("", "", "")
                rows.append((*first, number, rule.action, traffic, *_ends(rule)))
            first = (node.name, title, where) if not filter_.rules else ("", "", "")
            rows.append((*first, "otherwise", filter_.otherwise, "any", "", "", ""))
    columns = ("device", "filter", "at", "line", "does", "traffic", "from", "to", "only")
    return table("filters", columns, rows, least=("only",))


def _places(node: Node, filter_: Filter) -> Iterator[tuple[str, str]]:
    for nic in node.nics.values():
        if nic.filter_in is filter_:
            yield nic.name, "in"
        if nic.filter_out is filter_:
            yield nic.name, "out"


def _ends(rule: FilterRule) -> tuple[str, str, str]:
    """Where packets come from, where they go, and what else must hold."""
    ends = []
    for prefixes, ports in ((rule.source, rule.source_port), (rule.destination, rule.destination_port)):
        text = ", ".join(map(prefix_text, prefixes))
        ends.append(f"{text} port {_ports(ports)}".strip() if ports else text)
    only = [f"icmp {rule.icmp_type}"] if rule.icmp_type else []
    only += ["answering (ACK or RST)"] if rule.answering else []
    return ends[0], ends[1], ", ".join(only)


def _ports(ports: tuple[Ports, ...]) -> str:
    return ", ".join(map(str, ports))


def conversations(simulation: Simulation, nodes: Iterable[Node]) -> Table:
    """What passes the stateful filters of devices, whatever their lines say."""
    rows = []
    for node in nodes:
        for probe, number, ends in sorted(simulation.station(node.name).conversations, key=lambda known: known[1]):
            rows.append((node.name, str(probe), number + 1, " and ".join(map(str, sorted(ends)))))
    return table("conversations", ("device", "kind", "probe", "between"), rows)
