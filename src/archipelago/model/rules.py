"""What must hold in a network, whoever writes it down: every rule that a document's reader and Python share."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, NamedTuple, Protocol

from archipelago.errors import ModelProblem
from archipelago.model.demand import Demand
from archipelago.model.device_rules import device_problems
from archipelago.model.ends import ENDS, GATEWAY, OUTSIDE, WORDS, Kind
from archipelago.model.ends import find as find_end
from archipelago.model.ends import problem as end_problem
from archipelago.model.expectation import Expectation
from archipelago.model.lease_rules import lease_problems
from archipelago.model.parts import Aggregate, Device, End, Host, Path, Port
from archipelago.model.policy import Policy
from archipelago.model.problems import Catalogue, Names, Problems, can_be_held, held_problems, mtu_problems
from archipelago.model.values import NAME

if TYPE_CHECKING:
    from archipelago.model.network import Network


class Named(Protocol):
    """A part of a document that has a name."""

    @property
    def name(self) -> str:
        """What it is called."""


def catalogue_problems(vlans: Mapping[str, int]) -> Problems:
    """Each id has one name, and no name is a word of the documents."""
    yield from word_problems(vlans, "vlans")
    seen: dict[int, str] = {}
    for name, number in vlans.items():
        first = seen.setdefault(number, name)
        if first != name:
            message = f"VLAN id {number} is '{first}' already; each VLAN has an id of its own"
            yield ModelProblem(("vlans", name), message)


def plug_problems(uses: Iterable[tuple[Path, End, object]], devices: Mapping[str, object], names: Names) -> Problems:
    """Every port in use is on a device that exists, is not the name of an interface, and is used once.

    Args:
        uses: where each use is written, the port, and what is plugged in.
        devices: those that exist.
        names: for messages.
    """
    used: dict[End, object] = {}
    for path, end, what in uses:
        first = used.setdefault(end, what)
        if end.device not in devices:
            yield from names.unknown(path, end.device, devices, "device")
            continue
        if end.port in getattr(devices[end.device], "interfaces", {}):
            yield ModelProblem(path, f"{end} is an interface; cables and hosts go into ports")
        if first is not what:
            yield ModelProblem(path, f"port {end} is used twice (first by {first}); a port takes one cable or one host")


class NamedParts(NamedTuple):
    """What the ends of expectations can name: VLANs, hosts, and devices with their interfaces (None: not known yet)."""

    vlans: Mapping[str, int]
    hosts: Collection[str]
    devices: Mapping[str, Collection[str] | None]


EXPECTED = tuple(kind for kind in ENDS if kind is not Kind.ANYBODY)
"""The ends of expectations."""


def expectation_problems(expect: Iterable[Expectation], known: NamedParts, names: Names) -> Problems:
    """Each end of an expectation is a VLAN, a host, a subnet, an address, a device, an interface of one, or the
    outside; a target also everybody's own gateway."""
    for number, expectation in enumerate(expect):
        yield from _end_problems(("expect", number, "from"), expectation.source, known, EXPECTED, names)
        named = expectation.target in known.vlans
        if expectation.target != GATEWAY or named:
            yield from _end_problems(("expect", number, "to"), expectation.target, known, EXPECTED, names)
        elif expectation.source == OUTSIDE:
            yield ModelProblem(("expect", number, "to"), f"what lies {OUTSIDE} has no gateway here; name a device")


def demand_problems(traffic: Iterable[Demand], known: NamedParts, names: Names) -> Problems:
    """Each end of a demand is a VLAN, a host, a subnet, an address, a device, an interface of one, the outside, or
    any."""
    for number, demand in enumerate(traffic):
        for key, end in (("from", demand.source), ("to", demand.target)):
            yield from _end_problems(("traffic", number, key), end, known, ENDS, names)


def _end_problems(path: Path, word: str, known: NamedParts, accepted: Iterable[Kind], names: Names) -> Problems:
    if names.suppressed(word):
        return
    if word in known.vlans and word in known.hosts:
        message = f"'{word}' is a VLAN and a host; write the VLAN's id ({known.vlans[word]}) or the host's address"
        yield ModelProblem(path, message)
        return
    wrong = end_problem(word, known, accepted, names)
    if wrong is not None:
        yield ModelProblem(path, wrong)
        return
    end = find_end(word, known)
    interfaces = known.devices[end.name] if end is not None and end.kind is Kind.PART else None
    if end is not None and interfaces is not None:
        yield from names.unknown(path, end.part, interfaces, f"interface of '{end.name}' called")


def network_problems(network: Network, left_out: Collection[str] = ()) -> Problems:
    """Everything wrong in a network.

    Args:
        network: the network, as far as it is there.
        left_out: names that were written and not understood.
    """
    names = Names(left_out)
    yield from catalogue_problems(network.vlans)
    catalogue = Catalogue.of(network.vlans)
    for vlan in network.suspended:
        if vlan not in catalogue.ids:
            yield ModelProblem(("vlans",), f"there is no VLAN '{vlan}' in the catalogue that could be suspended", True)
    in_use: dict[str, set[str]] = {}
    uses = list(_uses(network))
    for _, end, _ in uses:
        in_use.setdefault(end.device, set()).add(end.port)
    yield from plug_problems(uses, network.devices, names)
    yield from named_problems(network.devices, "devices")
    yield from named_problems(network.hosts, "hosts")
    yield from word_problems(network.devices, "devices")
    yield from word_problems(network.hosts, "hosts")
    for name, device in network.devices.items():
        yield from device_problems(device, in_use.get(name, set()), catalogue, names)
        yield from _shared_problems(device, network.devices, names)
    yield from _host_problems(network.hosts.values(), network.devices)
    yield from _outside_problems(network, in_use, names)
    yield from lease_problems(network, names)
    named = network.expect or network.policy or network.traffic
    interfaces = {name: list(_addressed(device)) for name, device in network.devices.items()} if named else {}
    known = NamedParts(network.vlans, network.hosts, interfaces)
    yield from expectation_problems(network.expect, known, names)
    yield from demand_problems(network.traffic, known, names)
    if network.policy is not None:
        yield from policy_problems(network.policy, known, names)


def _shared_problems(device: Device, devices: Mapping[str, Device], names: Names) -> Problems:
    """The device that an aggregate is shared with is another that switches."""
    for interface in device.interfaces.values():
        other = interface.shared_with if isinstance(interface, Aggregate) else None
        path: Path = ("devices", device.name, "interfaces", interface.name, "shared-with")
        if other is None:
            continue
        if other not in devices:
            yield from names.unknown(path, other, devices, "device")
        elif other == device.name or devices[other].kind == "router":
            yield ModelProblem(path, f"'{other}' cannot have the other half: name another switch or layer 3 switch")


def policy_problems(policy: Policy, known: NamedParts, names: Names) -> Problems:
    """Each line says one thing, of ends that there are."""
    for number, rule in enumerate(policy.rules):
        path: Path = ("policy", "rules", number)
        if bool(rule.may) == bool(rule.may_not):
            yield ModelProblem(path, "a line says what may be begun or what may not: write one of 'may' and 'may-not'")
        for key, ends in (("from", rule.source), ("to", rule.target)):
            for end in ends:
                yield from _end_problems((*path, key), end, known, ENDS, names)


def _outside_problems(network: Network, in_use: Mapping[str, Collection[str]], names: Names) -> Problems:
    """The ports that lead outside are routed ports of devices, with an address, and nothing of ours is plugged in."""
    for number, entry in enumerate(network.outside or ()):
        path: Path = ("outside", number, "at")
        device = network.devices.get(entry.at.device)
        if device is None:
            yield from names.unknown(path, entry.at.device, network.devices, "device")
            continue
        port = device.ports.get(entry.at.port)
        if port is None or not port.addresses:
            message = f"{entry.at} is no routed port with an address; the outside begins at one"
            yield ModelProblem(path, message)
        elif entry.at.port in in_use.get(entry.at.device, ()):
            yield ModelProblem(path, f"something is plugged into {entry.at}; the outside begins where nothing is")
        if any(other.at == entry.at for other in (network.outside or ())[:number]):
            yield ModelProblem(path, f"{entry.at} is named twice; one entry for each port")


def _addressed(device: Device) -> Iterator[str]:
    """The interfaces of a device that somebody can be asked at."""
    for part in (*device.interfaces.values(), *device.ports.values()):
        if part.addresses or not isinstance(part, Port | Aggregate):
            yield part.name


def named_problems(parts: Mapping[str, Named], section: str) -> Problems:
    """Parts that are filed under another name than their own, or under what is no name."""
    is_name = NAME.fullmatch
    for key, part in parts.items():
        if key != part.name:
            told = f"'{key}' stands for what is called '{part.name}'; a part is filed under its own name"
            yield ModelProblem((section, key), told, True)
        if not is_name(key):
            yield ModelProblem(
                (section, key),
                f"'{key}' is not a name; a name is of letters, digits, '-', '_' and '.', with a letter in it",
                True,
            )


def word_problems(names: Iterable[str], section: str) -> Problems:
    """Names that are words of the documents."""
    for name in WORDS.intersection(names):
        told = f"'{name}' is a word of the documents ({', '.join(sorted(WORDS))}); give this another name"
        yield ModelProblem((section, name), told, True)


def _uses(network: Network) -> Iterator[tuple[Path, End, object]]:
    for number, cable in enumerate(network.cables):
        yield ("cables", number), cable.a, f"cable {cable}"
        yield ("cables", number), cable.b, f"cable {cable}"
    for name, host in network.hosts.items():
        yield ("hosts", name, "at"), host.at, f"host {name}"


def _host_problems(hosts: Iterable[Host], devices: Collection[str]) -> Problems:
    for host in hosts:
        if host.name in devices:
            path: Path = ("hosts", host.name)
            yield ModelProblem(path, f"'{host.name}' is a device too; hosts and devices have names of their own", True)
        if not all(map(can_be_held, host.addresses)):
            yield from held_problems(("hosts", host.name), host.addresses)
        if host.mtu is not None:
            yield from mtu_problems(("hosts", host.name), host)
        for hop in host.gateway:
            if hop.interface:
                message = f"'{hop}': a host has one interface; leave out '%{hop.interface}'"
                yield ModelProblem(("hosts", host.name, "gateway"), message)
