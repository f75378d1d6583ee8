"""A network as a shell script of the operating system's own commands: a namespace for each device and host.

The kernel's own switching, routing and address resolution then carry it: VLAN-aware bridges, 802.1Q interfaces,
bonds and routes. Where the kernel's conventions differ from the standards that we follow, a setting says so beside it.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator, Mapping
from shlex import quote

from archipelago.answer import spelled_out
from archipelago.exchange.daemons import DOWN, NEEDS, leasing
from archipelago.exchange.filters import COMMANDS
from archipelago.exchange.shared import NEEDS as SHARING_NEEDS
from archipelago.exchange.shared import electing
from archipelago.exchange.shell import ENDING, SETTINGS
from archipelago.exchange.space import Space, exists
from archipelago.exchange.tree import KernelTree, settling
from archipelago.knowledge.known import Knowledge, know
from archipelago.model.network import Network
from archipelago.model.parts import End


def namespace_tag(network: Network) -> str:
    """What the names of a network's namespaces start with: the same network, the same tag."""
    body = spelled_out((network.title, network.vlans, network.devices, network.hosts, network.cables))
    return f"isle-{hashlib.sha256(body.encode()).hexdigest()[:8]}"


def namespace(tag: str, name: str) -> str:
    return f"{tag}-{name}"


def script(network: Network, tag: str | None = None) -> str:
    """The script: `up` builds the network, `down` takes away what `up` made and nothing else.

    Args:
        network: the network.
        tag: what the names of its namespaces start with; by default what follows from the network.
    """
    knowledge = know(network)
    tag = tag or namespace_tag(network)
    spaces = spaces_of(knowledge)
    lines = [
        *_opening(network, knowledge, tag),
        "build() {",
        "  down",
        *(f"  own {quote(namespace(tag, name))}" for name in knowledge.nodes),
        *batch("ip -batch -", (f"netns add {namespace(tag, name)}" for name in knowledge.nodes)),
        *(
            f"  settings {quote(namespace(tag, node.name))} {quote(' '.join(f'ipv{v}' for v in sorted(node.forwards)))}"
            for node in knowledge.nodes.values()
        ),
        "",
        "  # Cables: a pair of linked ports each; a cable that is off is not there.",
        *batch("ip -batch -", _cables(knowledge, spaces, tag)),
        "",
    ]
    for name, space in spaces.items():
        lines += _set_up(quote(namespace(tag, name)), space)
    lines += ["}", "", "# Once carrier has settled, for which the kernel takes up to a second.", *routing(spaces, tag)]

    def own(name: str) -> str:
        return namespace(tag, name)

    def called(name: str, part: str) -> str:
        nic = spaces[name].node.nics.get(part)  # an untagged subinterface is its port there
        return (spaces[name].holder(nic) if nic is not None else None) or spaces[name].names[part]

    lines += ["", "# The spanning tree.", *settling(knowledge, own, called)]
    lines += ["", "# Who is active in shared gateways.", *electing(knowledge, own, called)]
    lines += ["", "# Servers, relays and clients of leases.", *leasing(knowledge, own, called)]
    return "\n".join([*lines, *ENDING]) + "\n"


def spaces_of(knowledge: Knowledge) -> dict[str, Space]:
    """The namespace of every device and host."""
    heard = frozenset(hop.address for host in knowledge.network.hosts.values() if host.auto for hop in host.gateway)
    tree = KernelTree(knowledge.devices.tree)
    return {name: Space(knowledge, node, heard, tree) for name, node in knowledge.nodes.items()}


def routing(spaces: Mapping[str, Space], tag: str) -> list[str]:
    """The lines of the function `routes`."""
    lines = ["routes() {"]
    for name, space in spaces.items():
        lines += _finish(quote(namespace(tag, name)), space)
    return [*lines, "  :", "}"]


def _opening(network: Network, knowledge: Knowledge, tag: str) -> list[str]:
    """What the script is and needs, the settings of every namespace, and how to take it all down."""
    comment = re.sub(r"[^ -~]", "?", network.title)
    return [
        "#!/bin/sh",
        f"# {comment}",
        "# Builds the network in namespaces of this machine's kernel and takes it down again.",
        "#   sh SCRIPT up | down        as root; needs iproute2, and bridge, 8021q, veth, dummy, bonding, vrf",
        *(["# Filters need iptables-legacy too."] if any(d.filters for d in network.devices.values()) else ()),
        *([f"# Shared gateways need {SHARING_NEEDS} too."] if knowledge.elected.any else ()),
        *([f"# Leases need {NEEDS} too."] if any(h.dhcp for h in network.hosts.values()) else ()),
        "set -eu",
        f"tag={quote(tag)}",
        "made=/run/archipelago-$tag   # the namespaces made by this script; only they are ever removed",
        "",
        SETTINGS,
        "down() {",
        '  [ -f "$made" ] || return 0',
        '  while read -r name; do echo "netns del $name"; done <"$made" | ip -force -batch - 2>/dev/null || :',
        '  rm -f "$made"',
        *DOWN,
        "}",
        "",
    ]


def _set_up(name: str, space: Space) -> Iterator[str]:
    """The lines that make one namespace's interfaces, tables, addresses and VLAN memberships."""
    yield f"  # {space.node.kind} {space.node.name}"
    yield from (f"  # {old} is called {new} here" for old, new in space.names.items() if old != new)
    yield from (f"  # the table of vrf {old} is called {new} here" for old, new in space.vrf_names.items())
    for family in ("-4", "-6") if space.vrfs else ():
        # What the main table holds itself must not come before the tables that have a name.
        yield f"  ip {family} -n {name} rule add pref 32764 table local"
        yield f"  ip {family} -n {name} rule del pref 0"
    yield from batch(f"ip -n {name} -batch -", (*space.links(), *space.tables(), *space.addresses()))
    yield from batch(f"bridge -n {name} -batch -", space.memberships())
    yield from batch(f"tc -n {name} -batch -", space.wires())
    for version, command in COMMANDS.items():
        yield from batch(f"ip netns exec {name} {command}", space.filters(version))


def _finish(name: str, space: Space) -> Iterator[str]:
    """What is left to do in one namespace when carrier has settled: addresses of dead interfaces go, routes come."""
    if any(nic.addresses for nic in space.node.nics.values()):
        yield f"  settle {name}"
    for nic in space.node.nics.values():
        if not space.speaks(nic) and space.holder(nic) is not None:
            yield f"  follow {name} {quote(space.names[nic.name])} {quote(space.names[nic.attachment or ''])}"
    yield from batch(f"ip -n {name} -force -batch - 2>/dev/null", space.routes(), may_fail=True)


def batch(command: str, lines: Iterable[str], may_fail: bool = False) -> list[str]:
    """Lines for one process to carry out, in a document that the shell does not look into."""
    listed = list(lines)
    if not listed:
        return []
    end = " || :" if may_fail else ""
    return [f"  {command} <<'END'{end}", *listed, "END"]


def _cables(knowledge: Knowledge, spaces: dict[str, Space], tag: str) -> Iterator[str]:
    done: set[End] = set()
    for end in (End(device, port) for device, ports in knowledge.ports.items() for port in ports):
        link = knowledge.links[end]
        if link.peer is not None and end not in done and exists(link):
            done |= {end, link.peer}
            a, b = spaces[end.device].names[end.port], spaces[link.peer.device].names[link.peer.port]
            near, far = namespace(tag, end.device), namespace(tag, link.peer.device)
            yield f"link add name {a} netns {near} type veth peer name {b} netns {far}"
    for name, space in spaces.items():
        within = f"netns {namespace(tag, name)}"
        for port, other in space.beyond.items():  # what leads outside has carrier, and nobody at its other end
            yield f"link add name {space.names[port]} {within} type veth peer name {other} {within}"
