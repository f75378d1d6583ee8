"""What must hold of filters, whoever writes them down."""

from __future__ import annotations

from archipelago.errors import ModelProblem
from archipelago.model.filters import ICMP, ICMP_V6, TCP, WITH_PORTS, Filter, FilterRule
from archipelago.model.parts import Aggregate, Device, Loopback, Path, Port, Subinterface, VlanInterface
from archipelago.model.problems import Names, Problems

MOST_RULES = 100_000
"""A filter has at most so many lines."""


def filter_problems(device: Device, names: Names) -> Problems:
    """Everything wrong in a device's filters, and where they are put."""
    path: Path = ("devices", device.name)
    if device.filters and device.kind == "switch":
        message = f"switch '{device.name}' forwards nothing between interfaces; filters belong on a router or l3switch"
        yield ModelProblem((*path, "filters"), message, True)
    for name, filter_ in device.filters.items():
        where: Path = (*path, "filters", name)
        if name != filter_.name:
            yield ModelProblem(where, f"'{name}' stands for what is called '{filter_.name}'", True)
        if filter_.stateful and device.kind != "router":
            message = "only a router keeps a table of conversations; on a layer 3 switch the answers need lines"
            yield ModelProblem((*where, "stateful"), message)
        for number, rule in enumerate(filter_.rules):
            yield from _rule_problems((*where, "rules", number), rule)
    yield from _place_problems(device, path, names)


def _place_problems(device: Device, path: Path, names: Names) -> Problems:
    for section, parts in (("ports", device.ports), ("interfaces", device.interfaces)):
        for name, part in parts.items():
            if isinstance(part, Loopback):
                continue
            if not isinstance(part, VlanInterface) and part.source_nat:
                yield from _translation_problems(device, (*path, section, name, "source-nat"), part)
            for key, wanted in (("filter-in", part.filter_in), ("filter-out", part.filter_out)):
                if wanted is None:
                    continue
                where: Path = (*path, section, name, key)
                if not part.addresses:
                    told = f"'{name}' carries no IP address; a filter belongs on an interface that does"
                    yield ModelProblem(where, told)
                if wanted not in device.filters:
                    yield from names.unknown(where, wanted, device.filters, "filter")


def _translation_problems(device: Device, path: Path, part: Port | Subinterface | Aggregate) -> Problems:
    if device.kind != "router":
        yield ModelProblem(path, "only a router translates; a layer 3 switch keeps no table of conversations", True)
    elif not any(address.version == 4 for address in part.addresses):
        told = f"'{part.name}' has no IPv4 address to translate to; give it one"
        yield ModelProblem(path, told)
    if any(prefix.version != 4 for prefix in part.source_nat):
        yield ModelProblem(path, "translation is for IPv4 (RFC 3022); leave out the IPv6 prefixes")


def _rule_problems(path: Path, rule: FilterRule) -> Problems:
    written = [word for word in ("accept", "drop", "reject") if getattr(rule, word)]
    if len(written) != 1:
        has = f"has {' and '.join(written)}" if written else "has none of accept, drop and reject"
        yield ModelProblem(path, f"a rule does one thing: this one {has}; write accept, drop or reject")
        return
    for key, allowed, only in (
        ("destination_port", WITH_PORTS, "tcp and udp"),
        ("source_port", WITH_PORTS, "tcp and udp"),
        ("icmp_type", {ICMP, ICMP_V6}, "icmp"),
        ("answering", {TCP}, "tcp"),
    ):
        if getattr(rule, key) and not all(kind.numbers and set(kind.numbers) <= allowed for kind in rule.traffic):
            word = key.replace("_", "-")
            yield ModelProblem((*path, word), f"'{word}' goes with {only} only, and this rule speaks of more")
    if rule.destination_port and any(kind.ports for kind in rule.traffic):
        message = "a service names its destination ports itself; leave out 'destination-port', or write the protocol"
        yield ModelProblem((*path, "destination-port"), message)
    named = [{prefix.version for prefix in prefixes} for prefixes in (rule.source, rule.destination)]
    if all(named) and named[0] != named[1]:
        told = "source and destination name different families, so nothing can match; name the same in both"
        yield ModelProblem((*path, "destination"), told)


def unnamed_filters(device: Device) -> list[Filter]:
    """The filters of a device that no interface names."""
    parts = (*device.ports.values(), *device.interfaces.values())
    named = {name for part in parts if not isinstance(part, Loopback) for name in (part.filter_in, part.filter_out)}
    return [filter_ for name, filter_ in device.filters.items() if name not in named]
