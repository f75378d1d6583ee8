"""Shared gateways in a kernel: a real VRRP daemon (keepalived) in the namespace of each member, as lines of the script.

What a member bids is ours, all that it tracks counted; who hears whom, and who is active, is the kernel's and the
daemons' own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
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
    is backup then gives up its link with the shared MAC address.

    Args:
        knowledge: the network.
        space: the namespace of a device.
        names: what an interface of one is called in the kernel.
    """
    members = [member for member in knowledge.elected.every() if member.up]
    if not members:
        return ["elect() {", "  :", "}"]
    lines = ["elect() {", '  mkdir -p "$made.d"', "  # Among equals who started first would stay active: nobody hears"]
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
    spaces = " ".join(dict.fromkeys(quote(space(one.device)) for one in members))
    lines += ["  sleep 4", *_until_calm(spaces)]
    lines += [f"  tc -n {quote(name)} filter del dev {link} ingress" for name, link in links]
    lines += ["  sleep 3", *_until_calm(spaces)]
    for member in members:
        vmac = link_names(knowledge.elected.members(member.device))[member]
        name, address = quote(space(member.device)), member.written.addresses[0]
        held = f'[ -n "$(ip -n {name} -o addr show dev {vmac} to {address} 2>/dev/null)" ]'
        told = f"echo {member} {member.written.vrid} {member.written.family}"
        lines += [f'  if {held}; then {told} >>"$made.d/active"; else ip -n {name} link set dev {vmac} down || :; fi']
    return [*lines, "}"]


def _until_calm(spaces: str) -> list[str]:
    """Wait until no address has come or gone for two seconds."""
    return [
        "  calm=0 last= tries=0",
        '  while [ "$calm" -lt 2 ] && [ "$tries" -lt 60 ]; do',
        "    sleep 1; tries=$((tries + 1))",
        f'    now=$(for name in {spaces}; do ip -n "$name" -br addr; done)',
        '    if [ "$now" = "$last" ]; then calm=$((calm + 1)); else calm=0; fi',
        '    last="$now"',
        "  done",
    ]


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
