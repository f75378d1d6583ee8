"""Shared gateways in a kernel: a real VRRP daemon (keepalived) in the namespace of each member, as lines of the script.

What a member bids is ours, all that it tracks counted; who hears whom, and who is active, is the kernel's and the
daemons' own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from itertools import groupby
from shlex import quote

from archipelago.addressing.values import is_link_local
from archipelago.knowledge.elected import Member, shared_addresses
from archipelago.knowledge.known import Knowledge

NEEDS = "keepalived and tc"
_DEAF = {"ip": "u32 match ip protocol 112 0xff action drop", "ipv6": "u32 match ip6 protocol 112 0xff action drop"}


def link_names(members: tuple[Member, ...]) -> dict[Member, str]:
    """What the links with the shared MAC addresses of a device are called in the kernel."""
    return {member: f"vr-{number}" for number, member in enumerate(members)}


def electing(knowledge: Knowledge, space: Callable[[str], str], names: Callable[[str, str], str]) -> list[str]:
    """The lines of the function `elect`: every member becomes active, unheard; then they hear each other, and whoever
    is backup then gives up its link with the shared MAC address. Each takes until it is as we say, or something else
    lasts.

    Args:
        knowledge: the network.
        space: the namespace of a device.
        names: what an interface of one is called in the kernel.
    """
    members = [member for member in knowledge.elected.every() if member.up]
    if not members:
        return ["elect() {", "  :", "}"]
    active = {active for _, active in knowledge.elected.routers()}
    lines = list(_who_is_active(knowledge, members, space))
    lines += ["elect() {", '  mkdir -p "$made.d"', "  # Among equals who started first would stay active: nobody hears"]
    links = list(dict.fromkeys((space(one.device), names(one.device, one.interface)) for one in members))
    for name, link in links:
        lines += [f"  tc -n {quote(name)} qdisc add dev {link} clsact"]
        for number, (protocol, drops) in enumerate(_DEAF.items(), 1):
            rule = f"ingress pref {number} protocol {protocol} {drops}"
            lines += [f"  tc -n {quote(name)} filter add dev {link} {rule}"]
    for number, (device, own) in enumerate(groupby(members, lambda member: member.device)):
        vmacs = link_names(knowledge.elected.members(device))
        conf = f'"$made.d/vrrp-{number}.conf"'
        lines += [f"  # {device} shares", f"  cat >{conf} <<'END'", "global_defs {", "  vrrp_version 3", "}"]
        for member in own:
            lines += _instance(member, names(device, member.interface), vmacs[member])
        pids = f'-p "$made.d/vrrp-{number}.pid" -r "$made.d/vrrp-{number}.child"'
        lines += ["END", f"  ip netns exec {quote(space(device))} keepalived -P -f {conf} {pids} 2>/dev/null || :"]
    lines += [f"  lasting active {quote(_told(members))} 1 16"]
    lines += [f"  tc -n {quote(name)} filter del dev {link} ingress" for name, link in links]
    lines += [f"  lasting active {quote(_told(member for member in members if member in active))} 3 16"]
    lines += ['  active >"$made.d/active"']
    for member in members:
        vmac = link_names(knowledge.elected.members(member.device))[member]
        switch_off = f"ip -n {quote(space(member.device))} link set dev {vmac} down"
        lines += [f'  grep -qxF {quote(_told([member]))} "$made.d/active" || {switch_off} || :']
    return [*lines, "}"]


def _told(members: Iterable[Member]) -> str:
    """The lines that say that members are active."""
    return "\n".join(f"{member} {member.written.vrid} {member.written.family}" for member in members)


def _who_is_active(knowledge: Knowledge, members: list[Member], space: Callable[[str], str]) -> Iterator[str]:
    """The lines of the function `active`: who holds the addresses that are shared."""
    yield "active() {"
    for member in members:
        vmac = link_names(knowledge.elected.members(member.device))[member]
        shown = f"ip -n {quote(space(member.device))} -o addr show dev {vmac} to {member.written.addresses[0]}"
        yield f'  [ -z "$({shown} 2>/dev/null)" ] || echo {quote(_told([member]))}'
    yield "}"


def _instance(member: Member, link: str, vmac: str) -> Iterator[str]:
    yield f"vrrp_instance {vmac} {{"
    yield f"  state {'MASTER' if member.owns else 'BACKUP'}"
    yield f"  interface {link}"
    yield f"  use_vmac {vmac}"
    yield f"  virtual_router_id {member.written.vrid}"
    yield f"  priority {member.priority}"
    yield "  advert_int 1"
    yield "  accept"
    yield "  virtual_ipaddress {"
    local_first = sorted(shared_addresses(member.written), key=lambda address: not is_link_local(address))
    yield from (f"    {address}/{32 if address.version == 4 else 128}" for address in local_first)
    yield "  }"
    yield "}"
