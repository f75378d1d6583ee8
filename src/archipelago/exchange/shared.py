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
_FOLLOW = """\
# Whoever is not active takes in nothing that is sent to the shared MAC address, and announces no address. One tc waits
# for all that comes, so that a takeover waits for no process to start.
while read -r kind link state rest; do
  link=${link#?}; link=${link%?}   # it comes quoted
  case "$state" in
    MASTER) for way in ingress egress; do echo "filter del dev $link $way pref 7"; done ;;
    BACKUP | FAULT)
      mac=$(cat "/sys/class/net/$link/address")
      echo "qdisc add dev $link clsact"
      echo "filter replace dev $link ingress pref 7 protocol all flower dst_mac $mac action drop"
      echo "filter replace dev $link egress pref 7 protocol ipv6 flower ip_proto icmpv6 action drop" ;;
  esac
done <"$1" | tc -force -batch -
"""
_DEAF = {"ip": "u32 match ip protocol 112 0xff action drop", "ipv6": "u32 match ip6 protocol 112 0xff action drop"}


def link_names(members: tuple[Member, ...]) -> dict[Member, str]:
    """What the links with the shared MAC addresses of a device are called in the kernel."""
    return {member: f"vr-{number}" for number, member in enumerate(members)}


def electing(knowledge: Knowledge, space: Callable[[str], str], names: Callable[[str, str], str]) -> list[str]:
    """The lines of the function `elect`: every member becomes active, unheard; then they hear each other, and whoever
    is backup then answers for nothing. Each takes until it is as we say, or something else lasts.

    Args:
        knowledge: the network.
        space: the namespace of a device.
        names: what an interface of one is called in the kernel.
    """
    members = _bidding(knowledge)
    if not members:
        return ["elect() {", "  :", "}"]
    active = {active for _, active in knowledge.elected.routers()}
    lines = list(_who_is_active(knowledge, members, space))
    lines += [
        "elect() {",
        '  mkdir -p "$made.d"',
        "  cat >\"$made.d/follow-states\" <<'END'",
        *_FOLLOW.splitlines(),
        "END",
    ]
    lines += ["  # Among equals who started first would stay active: nobody hears"]
    links = list(dict.fromkeys((space(one.device), names(one.device, one.interface)) for one in members))
    for name, link in links:
        lines += [f"  tc -n {quote(name)} qdisc add dev {link} clsact"]
        for number, (protocol, drops) in enumerate(_DEAF.items(), 1):
            rule = f"ingress pref {number} protocol {protocol} {drops}"
            lines += [f"  tc -n {quote(name)} filter add dev {link} {rule}"]
    for number, (device, own) in enumerate(groupby(members, lambda member: member.device)):
        vmacs = link_names(knowledge.elected.members(device))
        conf = f'"$made.d/vrrp-{number}.conf"'
        lines += [f"  # {device} shares", f"  cat >{conf} <<END"]
        lines += ["global_defs {", "  vrrp_version 3", f"  vrrp_notify_fifo $made.d/states-{number}", "}"]
        for member in own:
            lines += _instance(member, names(device, member.interface), vmacs[member], f"$made.d/bid-{number}")
        pids = f'-p "$made.d/vrrp-{number}.pid" -r "$made.d/vrrp-{number}.child"'
        lines += ["END", *_following(number, quote(space(device)))]
        lines += [f"  ip netns exec {quote(space(device))} keepalived -P -f {conf} {pids} 2>/dev/null || :"]
    lines += [f"  lasting active {quote(_told(members))} 1 16"]
    lines += [f"  tc -n {quote(name)} filter del dev {link} ingress" for name, link in links]
    lines += [f"  lasting active {quote(_told(member for member in members if member in active))} 3 16"]
    return [*lines, '  active >"$made.d/active"', "}"]


def electing_again(knowledge: Knowledge, space: Callable[[str], str]) -> list[str]:
    """The lines of the function `elect` once something has broken: wait until who is active is as we say, or something
    else lasts."""
    members = _bidding(knowledge)
    if not members:
        return ["elect() {", "  :", "}"]
    told = quote(_told(active for _, active in knowledge.elected.routers() if active is not None))
    waiting = [f"  lasting active {told} 3 16", '  active >"$made.d/active"']
    return [*_who_is_active(knowledge, members, space), "elect() {", *waiting, "}"]


def bidding_anew(before: Knowledge, after: Knowledge) -> Iterator[str]:
    """The lines that end the daemons of devices that are off now, whose processes `$daemons_off` has, and tell the
    others what they bid now. No process is started for it: it takes no time."""
    now = {(member.device, member.interface, member.number): member for member in after.elected.every()}
    yield '  [ -z "$daemons_off" ] || kill -KILL $daemons_off 2>/dev/null || :'
    for number, (device, own) in enumerate(groupby(_bidding(before), lambda member: member.device)):
        vmacs = link_names(before.elected.members(device))
        for member in own if not after.devices[device].off else ():
            bids = now[member.device, member.interface, member.number].priority - member.priority
            if bids:
                yield f'  echo {bids} >"$made.d/bid-{number}-{vmacs[member]}"'


def daemons_off(before: Knowledge, after: Knowledge) -> str:
    """The line that reads the processes of the daemons of devices that are off now: first the one that would say
    goodbye if the other ended."""
    devices = [device for device, _ in groupby(_bidding(before), lambda member: member.device)]
    off = [number for number, device in enumerate(devices) if after.devices[device].off]
    files = [f'"$made.d/vrrp-{number}.{kind}"' for number in off for kind in ("child", "pid")]
    return f"daemons_off=$(cat {' '.join(files)} 2>/dev/null || :)" if files else "daemons_off="


def _bidding(knowledge: Knowledge) -> list[Member]:
    """The members that a daemon runs for."""
    return [member for member in knowledge.elected.every() if member.up]


def _following(number: int, name: str) -> list[str]:
    """The lines that let the links of a device with shared MAC addresses follow its daemon."""
    fifo = f'"$made.d/states-{number}"'
    return [
        f"  mkfifo {fifo}",
        f'  ip netns exec {name} sh "$made.d/follow-states" {fifo} >/dev/null 2>&1 &',
        f'  echo $! >"$made.d/states-{number}.pid"',
    ]


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


def _instance(member: Member, link: str, vmac: str, bids: str) -> Iterator[str]:
    """One member's part of its device's settings; what it bids less, or more again, is read from a file."""
    yield f"vrrp_track_file bid-{vmac} {{"
    yield f'  file "{bids}-{vmac}"'
    yield "  weight 1"
    yield "  init_file 0 overwrite"
    yield "}"
    yield f"vrrp_instance {vmac} {{"
    yield f"  state {'MASTER' if member.owns else 'BACKUP'}"
    yield f"  interface {link}"
    yield f"  use_vmac {vmac}"
    yield f"  virtual_router_id {member.written.vrid}"
    yield f"  priority {member.priority}"
    yield f"  advert_int {member.written.advertise_interval / 1000:g}"
    yield "  accept"
    yield "  track_file {"
    yield f"    bid-{vmac}"
    yield "  }"
    yield "  virtual_ipaddress {"
    local_first = sorted(shared_addresses(member.written), key=lambda address: not is_link_local(address))
    yield from (f"    {address}/{32 if address.version == 4 else 128}" for address in local_first)
    yield "  }"
    yield "}"
