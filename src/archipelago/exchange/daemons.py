"""Leases in a kernel: a real server, relays and clients in the namespaces of a network, as lines of its script."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from ipaddress import IPv4Network
from pathlib import Path
from shlex import quote

from archipelago.addressing.values import Address
from archipelago.knowledge.hearing import Hearing
from archipelago.knowledge.known import Knowledge
from archipelago.knowledge.links import HOST_PORT
from archipelago.model.leases import Pool

NEEDS = "dnsmasq, udhcpc (busybox) and python3"
_CLIENT = """\
#!/bin/sh
# What a client does with what it was given.
case "$1" in bound|renew) ;; *) exit 0 ;; esac
ip -4 addr flush dev "$interface"
ip addr add "$ip/$mask" dev "$interface"
set -- $router
[ "${1:-}" != "$ip" ] || set --   # a gateway that is its own address is none
[ -z "${1:-}" ] || ip route replace default via "$1" dev "$interface" 2>/dev/null || :
echo "$WHO $ip/$mask ${1:-none} $serverid" >>"$GIVEN"
"""


def leasing(knowledge: Knowledge, space: Callable[[str], str], names: Callable[[str, str], str]) -> list[str]:
    """The lines of the function `lease`: servers, relays, then each host that asks, one after the other.

    Args:
        knowledge: the network.
        space: the namespace of a device or host.
        names: what an interface of one is called in the kernel.
    """
    asking = [host for host in knowledge.written.hosts.values() if host.dhcp and not host.dhcp_pools]
    if not asking:
        return ["lease() {", "  :", "}"]
    lines = ["lease() {", '  mkdir -p "$made.d"', "  cat >\"$made.d/ask\" <<'END'", *_CLIENT.splitlines(), "END"]
    lines += ['  chmod +x "$made.d/ask"', '  : >"$made.d/given"']
    for number, server in enumerate(knowledge.leases.servers):
        conf = f'"$made.d/{number}.conf"'
        lines += [f"  # {server} leases", f"  cat >{conf} <<END", *_server(knowledge, server, number), "END"]
        lines += [f"  ip netns exec {quote(space(server))} dnsmasq -C {conf} || :"]
    relays = dict(_relays(knowledge, names))
    if relays:
        own = Path(__file__).with_name("relayer.py").read_text(encoding="utf-8")
        lines += ["  cat >\"$made.d/relayer.py\" <<'END'", *own.splitlines(), "END"]
    for number, (device, words) in enumerate(relays.items()):
        run = f'ip netns exec {quote(space(device))} python3 "$made.d/relayer.py" {" ".join(map(quote, words))}'
        lines += [
            f"  # {device} relays",
            f'  {run} >"$made.d/{number}.ready" 2>/dev/null & echo $! >"$made.d/relay-{number}.pid"',
        ]
    tries = " ".join(map(str, range(60)))
    for number in range(len(relays)):
        lines += [f'  for try in {tries}; do [ -s "$made.d/{number}.ready" ] && break; sleep 0.25; done']
    lines += ["  sleep 0.5"]
    for host in asking:
        port = names(host.name, HOST_PORT)
        said = f'WHO={quote(host.name)} GIVEN="$made.d/given"'
        known_as = f"-C -x 0x3d:{host.name.encode().hex()}"
        ask = f'udhcpc -i {port} -n -q -f -B -t 4 -T 2 -A 1 {known_as} -s "$made.d/ask"'
        # Who we say is leased an address and hears nothing asks again: a difference must last before it counts.
        tries = "1 2 3" if knowledge.leases.of(host.name) is not None else "1"
        told = f'grep -q {quote(f"^{re.escape(host.name)} ")} "$made.d/given"'
        others = list(_others(knowledge, host.name, [*relays]))
        lines += [f'  kill -STOP "$(cat "$made.d/{pid}")"  # its offer comes second' for pid in others]
        lines += [f"  for try in {tries}; do", f"    {told} ||"]
        lines += [f"      ip netns exec {quote(space(host.name))} env {said} {ask} >/dev/null 2>&1 || :", "  done"]
        lines += [f'  kill -CONT "$(cat "$made.d/{pid}")"' for pid in others]
    return [*lines, "}"]


def _others(knowledge: Knowledge, host: str, relays: list[str]) -> Iterator[str]:
    """The process files of servers and relays whose offers a host does not take: which of several comes first is a
    matter of timing there, and of order here."""
    lease = knowledge.leases.of(host)
    if lease is None:
        return
    quiet: dict[str, None] = {}
    for one in knowledge.leases.listeners(host):
        if one.outcome is Hearing.OFFERS and one != lease.heard:
            if one.server != lease.server:
                quiet[f"{knowledge.leases.servers.index(one.server)}.pid"] = None
            elif one.relay and one.device != lease.heard.device:
                quiet[f"relay-{relays.index(one.device)}.pid"] = None
    yield from quiet


DOWN = (
    '  for one in "$made.d"/*.pid; do [ -f "$one" ] && kill "$(cat "$one")" 2>/dev/null || :; done',
    '  rm -rf "$made.d"',
)
"""What ends them, in the function `down`."""


def _server(knowledge: Knowledge, server: str, number: int) -> Iterator[str]:
    """The settings of one server: its pools in their order, each range cut at the addresses that are kept for hosts."""
    pools = knowledge.leases.pools_of(server)
    yield from (
        "port=0",
        "user=root",
        "group=root",
        "no-ping",
        "dhcp-sequential-ip",
        "dhcp-authoritative",
        "bind-dynamic",
    )
    yield from (f"pid-file=$made.d/{number}.pid", f"dhcp-leasefile=$made.d/{number}.leases", "dhcp-lease-max=100000")
    kept = {address for pool in pools.values() for address in pool.reservations.values()}
    for place, pool in enumerate(pools.values()):
        yield from _pool(pool, f"p{place}", kept)
        for name, address in pool.reservations.items():
            yield f"dhcp-host=id:{':'.join(f'{byte:02x}' for byte in name.encode())},{address}"


def _pool(pool: Pool, tag: str, kept: set[Address]) -> Iterator[str]:
    mask = IPv4Network((pool.subnet.value, pool.subnet.length)).netmask
    parts = [part for whole in pool.ranges for part in whole.without(kept)]
    for part in parts:
        yield f"dhcp-range=set:{tag},{part.first},{part.last},{mask},{max(pool.lease_time // 1000, 120)}"
    if pool.reservations or not parts:
        yield f"dhcp-range=set:{tag},{pool.subnet.first},static,{mask}"
    # Without an address the option is empty: else the server would name itself.
    yield f"dhcp-option=tag:{tag},3{f',{pool.gateway}' if pool.gateway is not None else ''}"
    if pool.dns_server:
        yield f"dhcp-option=tag:{tag},6,{','.join(map(str, pool.dns_server))}"


def _relays(knowledge: Knowledge, names: Callable[[str, str], str]) -> Iterator[tuple[str, list[str]]]:
    """The relays of each device, as the relayer takes them."""
    for node in knowledge.devices.values():
        words = []
        for nic in node.nics.values():
            if nic.dhcp_relay and nic.up:
                own = next(address.address for address in nic.addresses if address.version == 4)
                words.append(f"{names(node.name, nic.name)}={own}={','.join(map(str, nic.dhcp_relay))}")
        if words:
            yield node.name, words
