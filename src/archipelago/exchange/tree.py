"""The kernel's own spanning tree: what bridges and their ports are told, so that it comes to what ours does."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from math import gcd
from shlex import quote

from archipelago.knowledge.devices import Node
from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.tree import SpanningTree

HIGHEST_COST = 65_535
"""The kernel's largest path cost."""
_BPDU = "protocol all flower dst_mac 01:80:c2:00:00:00"
"""The tree's own frames (IEEE 802.1Q 8.6.3)."""


class KernelTree:
    """The settings of a network's bridges. Where nothing would be blocked they take no part, and need not settle. Costs
    are divided by their greatest common divisor, as the kernel's are small; `fits` says whether they are small enough
    then."""

    def __init__(self, tree: SpanningTree) -> None:
        self._tree = tree
        costs = [port.cost for bridge in tree.bridges.values() for port in bridge.ports.values()]
        self._unit = gcd(*costs) or 1
        self.fits = max(costs, default=0) // self._unit <= HIGHEST_COST

    def bridge(self, device: str) -> str:
        """The options of a device's bridge: it takes part, with timers as short as the kernel takes them, or not."""
        bridge = self._tree.bridges.get(device)
        if bridge is None or not self._tree.blocked:
            return "stp_state 0"
        return f"stp_state 1 forward_delay 200 hello_time 100 max_age 600 priority {bridge.id.priority}"

    def port(self, device: str, port: str, name: str) -> Iterator[str]:
        """What a port of a bridge is told, by its name in the kernel."""
        bridge = self._tree.bridges.get(device)
        if self._tree.blocked and bridge is not None and port in bridge.ports:
            cost = min(bridge.ports[port].cost // self._unit, HIGHEST_COST)
            yield f"link set dev {name} type bridge_slave cost {cost}"

    def waiting_at(self, device: str) -> frozenset[str]:
        """The halves of shared aggregates of a device that wait."""
        return self._tree.waiting_at(device)

    def wire(self, node: Node, ports: Sequence[str]) -> Iterator[str]:
        """What makes a bridge that takes no part a piece of wire for the tree's frames, whatever their VLAN; by itself
        it would pass them on inside the untagged VLAN only."""
        if not self._tree.blocked or node.name in self._tree.bridges or len(ports) < 2:
            return
        yield from (f"qdisc add dev {port} clsact" for port in ports)
        for port in ports:
            copies = " ".join(f"action mirred egress mirror dev {other}" for other in ports if other != port)
            yield f"filter add dev {port} ingress {_BPDU} {copies} action drop"


def settling(
    knowledge: Knowledge, space: Callable[[str], str], names: Callable[[str, str], str], broken: bool = False
) -> list[str]:
    """The lines of the function `tree`: wait until no port listens or learns and what we say is blocked has been for a
    while, or something else for longer; then take what is blocked out of its VLANs, so that it makes no VLAN interface
    live. Where something has `broken`, bridges took part before, and still do."""
    tree = knowledge.devices.tree
    if not tree.blocked and not broken:
        return ["tree() {", "  :", "}"]
    spaces = " ".join(quote(space(name)) for name in tree.bridges)
    ours = [f"{space(name)} {names(name, port)}" for name in tree.bridges for port in sorted(tree.blocked_at(name))]
    lines = ["blocked() {", f"  for name in {spaces}; do"]
    lines += [
        '    bridge -n "$name" link | while read -r number port rest; do',
        '      case "$rest" in',
        '        *"state blocking"*) echo "$name ${port%%[@:]*}" ;;',
        '        *"state listening"* | *"state learning"*) echo "$name ${port%%[@:]*} is not sure yet" ;;',
        "      esac",
        "    done",
        "  done | sort",
        "}",
        "tree() {",
        '  mkdir -p "$made.d"',
        '  : >"$made.d/tree"',
        *("  ours=$(sort <<'END'", *ours, "END", "  )"),
        '  lasting blocked "$ours" 4 16',
        f"  for name in {spaces}; do",
        "    id=$(ip netns exec \"$name\" sh -c 'cd /sys/class/net/bridge/bridge; echo $(cat bridge_id root_id)')",
        '    echo "root $name $id" >>"$made.d/tree"',
        "  done",
        "  blocked | while read -r name port; do",
        '    echo "blocked $name $port" >>"$made.d/tree"',
        '    bridge -n "$name" vlan del dev "$port" vid 1-4094 || :',
        "  done",
        "  cat >>\"$made.d/tree\" <<'END'",
    ]
    for name, bridge in tree.bridges.items():
        lines += [f"port {space(name)} {names(name, port)} {name}/{port}" for port in bridge.ports]
        lines += [f"bridge {space(name)} {name}"]
    return [*lines, "END", "}"]
