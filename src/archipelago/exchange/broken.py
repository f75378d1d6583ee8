"""A part that breaks in a network that a script has built: the lines that break it there, and what is done once the
kernel and its daemons have had their time."""

from __future__ import annotations

from collections.abc import Iterator
from shlex import quote

from archipelago.exchange.daemons import leasing
from archipelago.exchange.linux import batch, namespace, routing, spaces_of
from archipelago.exchange.shared import bidding_anew, daemons_off, electing_again
from archipelago.exchange.shell import SETTINGS
from archipelago.exchange.space import BRIDGE, Space
from archipelago.exchange.tree import settling
from archipelago.knowledge.known import know
from archipelago.model.network import Network
from archipelago.model.parts import Aggregate


def broken_script(before: Network, after: Network, tag: str) -> str:
    """The script for a network that is up: `ready`, then `cut` breaks what is off afterwards; `again`, once that has
    had its effect, waits for the tree and the daemons, tries each route again, and lets hosts ask for their leases.

    Args:
        before: the network as it was built.
        after: the same with parts off.
        tag: what the names of its namespaces start with.
    """
    old, new = know(before), know(after)
    spaces = spaces_of(old)
    spaces_after = spaces_of(new)

    def own(name: str) -> str:
        return namespace(tag, name)

    def called(name: str, part: str) -> str:
        return spaces[name].names[part]

    lines = [
        "#!/bin/sh",
        "set -eu",
        f"tag={quote(tag)}",
        "made=/run/archipelago-$tag",
        "",
        SETTINGS,
        daemons_off(old, new),
        "cut() {",
    ]
    lines += bidding_anew(old, new)
    for name, space in spaces.items():
        off = [*_switched_off(space, spaces_after[name]), *_unplugged(space, before, after)]
        lines += batch(f"ip -n {quote(own(name))} -force -batch -", off)
    for name, space in spaces.items():
        freed, held = space.waiting - spaces_after[name].waiting, spaces_after[name].waiting - space.waiting
        free = (f"qdisc del dev {called(name, half)} clsact" for half in sorted(freed))
        lines += batch(f"tc -n {quote(own(name))} -force -batch -", [*free, *space.kept_waiting(held)])
    lines += ["  :", "}", "", "# What is blocked carries its VLANs again: from now on the kernel's tree decides."]
    lines += ["ready() {"]
    for name, space in spaces.items():
        blocked = old.devices.tree.blocked_at(name) if name in old.devices.tree.bridges else ()
        lines += batch(f"bridge -n {quote(own(name))} -batch -", space.memberships_of(sorted(blocked)))
    lines += ["  :", "}", "", "back() {"]
    for name, space in spaces_after.items():
        lines += batch(f"ip -n {quote(own(name))} -force -batch - 2>/dev/null", space.addresses(), may_fail=True)
        lines += [f"  for family in -4 -6; do ip $family -n {quote(own(name))} route flush proto boot || :; done"]
    lines += ["  :", "}", "", *settling(new, own, called, broken=bool(old.devices.tree.blocked))]
    lines += ["", *routing(spaces_after, tag), "", *electing_again(new, own)]
    lines += ["", *leasing(new, own, called), "", *_AGAIN]
    return "\n".join(lines) + "\n"


_AGAIN = (
    "again() {",
    '  for one in "$made.d"/[0-9]*.pid "$made.d"/relay-*.pid; do',
    '    [ -f "$one" ] && kill "$(cat "$one")" 2>/dev/null || :; rm -f "$one"',
    "  done",
    "  tree; sleep 1.2; back; routes; elect; lease",
    "}",
    "",
    'case "${1:-}" in',
    '  ready|again) "$1" ;;',
    "  cut) read -r moment || :; cut ;;   # at the moment that it is told",
    '  *) echo "usage: $0 ready | cut | again" >&2; exit 2 ;;',
    "esac",
)


def _unplugged(space: Space, before: Network, after: Network) -> Iterator[str]:
    """The commands that take a cable's carrier away at one device or host."""
    for was, now in zip(before.cables, after.cables, strict=True):
        if now.off and not was.off:
            ports = [end.port for end in now.ends if end.device == space.node.name]
            yield from (f"link set dev {space.names[port]} down" for port in ports)


def _switched_off(space: Space, after: Space) -> Iterator[str]:
    """The commands that take down what is off now of one device or host."""
    if after.node.off:
        if not space.node.off:
            yield from (f"link set dev {name} down" for name in _everything(space))
    elif space.device is not None and after.device is not None:
        for name, port in after.device.ports.items():
            was = space.device.ports.get(name)
            if port.off and not (was and was.off):
                yield f"link set dev {space.names[name]} down"
        for name, interface in after.device.interfaces.items():
            if interface.off and not space.device.interfaces[name].off:
                nic = space.node.nics.get(name)
                holder = space.holder(nic) if nic is not None else None
                if holder == space.names.get(name, ""):
                    yield f"link set dev {holder} down"
                elif holder is not None:  # an untagged subinterface is the port itself, which others may stand on
                    yield f"addr flush dev {holder}"


def _everything(space: Space) -> Iterator[str]:
    """The kernel interfaces of one device or host that others stand on."""
    for attachment in space.node.attachments.values():
        yield from (space.names[end.port] for end in attachment.members if end in space.cabled[attachment.name])
        if isinstance(attachment.written, Aggregate):
            yield space.names[attachment.name]
    if space.node.kind in ("switch", "l3switch"):
        yield BRIDGE
    yield from (space.names[nic.name] for nic in space.node.nics.values() if nic.kind == "loopback")
