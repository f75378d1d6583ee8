"""What each stage of knowledge reads of the model is declared once: no stage reads anything else, nothing is forgotten,
and a change derives anew what it has a say in, whatever field of whatever part it is.

python tests/test_reads.py FIRST-SEED COUNT CHANGES     prints what differs from deriving anew, then the figures
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Mapping
from dataclasses import fields, is_dataclass, replace
from functools import cache
from random import Random
from typing import Any, get_args, get_type_hints

import pytest

from archipelago.audit.registry import run
from archipelago.knowledge import alike, devices, elected, known, leases, links, routes, tree
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import apply_change, know
from archipelago.knowledge.outside import widened
from archipelago.model.filters import ECHO, Probe
from archipelago.model.network import Network, unchecked
from archipelago.model.parts import Host, Port
from archipelago.model.projection import Projection
from archipelago.reachability import profiles, tables
from archipelago.reachability.build import build_arrays, change_arrays
from archipelago.reachability.matrix import by_probe
from every_field import UNREAD_BY_DESIGN, changes, every_field, full_of_everything
from test_changes import everything

STAGES = (links.NAMES_READ, links.READS, tree.READS, devices.READS, routes.READS, elected.READS, leases.READS)
PROBES = (ECHO, Probe("tcp", 443), Probe("udp", 53), Probe("icmp", 0, 1400))


def covered(read: Projection) -> set[tuple[str, str]]:
    """Every field of every part that is read."""
    seen: set[tuple[str, str]] = set()

    def visit(hint: Any) -> None:
        if isinstance(hint, type) and is_dataclass(hint) and not any(kind == hint.__name__ for kind, _ in seen):
            hints = get_type_hints(hint)
            for name in read.kinds.get(hint.__name__, tuple(hints)):
                seen.add((hint.__name__, name))
                visit(hints[name])
        elif isinstance(hint, type) and hasattr(hint, "_fields"):
            seen.update((hint.__name__, name) for name in hint._fields)
        for inner in get_args(hint):
            visit(inner)

    visit(Network if "Network" in read.kinds else Host)
    return seen


def test_every_field_of_every_part_is_read_by_a_stage_or_declared_to_be_read_by_none():
    read = set().union(*map(covered, STAGES)) | covered(Projection(Network="hosts"))
    unread = {(kind, name) for kind, names in known.UNREAD.kinds.items() for name in names}
    beyond = {"Expectation", "Demand", "Policy", "PolicyRule", "Probe"}  # what only engines and plans read
    every = {(kind, name) for kind, name in every_field() if kind not in beyond} - UNREAD_BY_DESIGN
    assert not unread & read
    assert every - read - unread == set()


@cache
def refusing(kind: type, allowed: tuple[str, ...]) -> type:
    """A part that refuses every field which is not declared; comparing and copying it whole aside."""
    names = {spec.name for spec in fields(kind)}

    def read(self: Any, name: str) -> Any:
        if name in names and name not in allowed:
            caller = sys._getframe(1).f_code.co_name
            assert caller in ("__eq__", "__hash__", "replace", "_replace"), f"{kind.__name__}.{name} is not declared"
        return object.__getattribute__(self, name)

    return type(kind.__name__, (kind,), {"__slots__": (), "__getattribute__": read, "__hash__": kind.__hash__})


def handed(value: Any, read: Projection) -> Any:
    """A value whose parts have only what is declared."""
    if isinstance(value, Mapping):
        return {key: handed(entry, read) for key, entry in value.items()}
    if isinstance(value, tuple) and not hasattr(value, "_fields"):
        return tuple(handed(entry, read) for entry in value)
    if not is_dataclass(value):
        return value
    allowed = read.kinds.get(type(value).__name__)
    made = object.__new__(type(value) if allowed is None else refusing(type(value), allowed))
    for spec in fields(value):
        inner = getattr(value, spec.name)
        object.__setattr__(made, spec.name, inner if spec.name == "marks" else handed(inner, read))
    return made


@pytest.mark.parametrize("seed", range(40))
def test_no_stage_reads_what_it_does_not_declare(seed):
    network = full_of_everything(Random(seed))
    named = handed(network, links.NAMES_READ)
    names, plugged = links.port_names(named), links.plugs(named)

    def ports(of: Network) -> dict[str, dict[str, Port]]:
        return {name: {one: of.devices[name].ports.get(one, Port(one)) for one in own} for name, own in names.items()}

    given = handed(network, links.READS)
    carrier = links.Links(given, ports(given), plugged)
    given = handed(network, tree.READS)
    spanning = tree.spanning_tree(given, ports(given), plugged, carrier)
    given = handed(network, devices.READS)
    nodes = dict(devices.Devices(given, ports(given), plugged, carrier, {}, spanning))
    given = handed(network, routes.READS)
    for name, node in nodes.items():
        routes.routes_of(node, given.devices[name])
    made = know(network)
    given = handed(network, elected.READS)
    members = elected.Elected(given, made.devices, made.domains, made.routes, {})
    members.routers(), members.naming_themselves()
    given = handed(network, leases.READS)
    decided = leases.Leases(given, made.devices, made.domains, made.elected, made.state).given
    assert decided == made.leases.given
    given = handed(network, profiles.CUTS_READ)
    for name, device in given.devices.items():
        for version in (4, 6):
            cuts = profiles.device_cuts(made, network.devices[name], version)
            assert profiles.device_cuts(made, device, version) == cuts
    settled = devices.Devices(network, made.ports, plugged, carrier, {}, spanning)
    assert {name: replace(node, written=settled[name].written) for name, node in nodes.items()}.keys() == dict(
        settled
    ).keys()


def rows(arrays: Any) -> dict[Any, list[Any]]:
    return {
        (version, answer.probe): list(answer.rows())
        for version in arrays.families
        for answer in by_probe(arrays, PROBES, version, causes=False)
    }


def findings(made: known.Knowledge) -> list[tuple[str, str, str]]:
    return [(one.kind, one.at, one.says) for one in run(NetworkIndex(made))]


def differences(network: Network, random: Random, tried: Counter[tuple[str, str]], count: int) -> list[tuple[Any, str]]:
    """What differs where changes are applied from what deriving anew gives: the field changed, and what."""
    made = know(network)
    arrays = build_arrays(widened(made))
    everything(made), rows(arrays), findings(made)  # so that there is something to keep
    found = []
    for change in changes(network, random, tried, count):
        applied, fresh = apply_change(made, change.network), know(change.network)
        ours, theirs = change_arrays(arrays, widened(applied).written), build_arrays(widened(fresh))
        both = {
            "knowledge": everything(applied) == everything(fresh),
            "arrays": rows(ours) == rows(theirs),
            "findings": findings(applied) == findings(fresh),
        }
        found += [(change.field, what) for what, same in both.items() if not same]
    return found


@pytest.mark.parametrize("seed", range(16))
def test_whatever_field_changes_applying_it_equals_deriving_anew(seed):
    random = Random(seed)
    tried = Counter(dict.fromkeys(random.sample(every_field(), 80), 1))  # other fields in every network
    assert differences(full_of_everything(random), random, tried, 8) == []


@pytest.mark.long
def test_every_field_is_changed_by_that():
    tried: Counter[tuple[str, str]] = Counter()
    for seed in range(120):
        random = Random(seed)
        for _ in changes(full_of_everything(random), random, tried, 12):
            pass
    assert [field for field in every_field() if not tried[field] and field not in UNREAD_BY_DESIGN] == []


@pytest.mark.parametrize("seed", range(10))
def test_what_no_stage_reads_derives_nothing_anew(seed, monkeypatch):
    network = full_of_everything(Random(seed))
    made = know(network)
    everything(made)
    counted: Counter[str] = Counter()
    for module, name in ((devices, "_device_node"), (known, "routes_of"), (known, "spanning_tree")):
        old = getattr(module, name)
        monkeypatch.setattr(module, name, lambda *given, _old=old, _name=name: counted.update([_name]) or _old(*given))
    turned = {
        name: replace(device, console=not device.console, description="hall")
        for name, device in network.devices.items()
    }
    new = unchecked(**{spec.name: getattr(network, spec.name) for spec in fields(Network)} | {"devices": turned})
    applied = apply_change(made, replace(new, title="Quay", domain="bay.example", expect=(), traffic=(), policy=None))
    assert applied.derived == frozenset()
    assert all(applied.devices[name].written is turned[name] for name in turned)
    for name in turned:
        applied.routes(name)
    assert not counted, counted
    assert alike.READS.same(network.devices, turned) and tables.READS.same(network.devices, turned)


def main() -> None:
    first, count, each = map(int, sys.argv[1:4])
    tried: Counter[tuple[str, str]] = Counter()
    for seed in range(first, first + count):
        random = Random(seed)
        for said in differences(full_of_everything(random), random, tried, each):
            print("differs", seed, *said)
    print({"networks": count, "changes": sum(tried.values()), "fields": len(tried), "least often": min(tried.values())})


if __name__ == "__main__":
    main()
