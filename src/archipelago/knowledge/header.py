"""What a decision about a packet can depend on, and the headers of probes."""

from __future__ import annotations

from typing import NamedTuple

from archipelago.addressing.values import Address
from archipelago.model.filters import ECHO, FIRST_OWN_PORT, ICMP, ICMP_V6, LAST_PORT, TCP, UDP, Probe

FIRST_TTL = 64
"""The TTL or hop limit that a packet starts with."""
ECHO_TYPES = {(4, False): 8, (4, True): 0, (6, False): 128, (6, True): 129}
"""The ICMP type of an echo request and reply, by family (RFC 792, RFC 4443 4)."""
ERROR_TYPES = {4: 3, 6: 1}
"""The ICMP type of destination unreachable, which stands for every error, by family."""


class Header(NamedTuple):
    """What a decision can depend on: the addresses, the protocol's number, the ports of TCP and UDP or the type of
    ICMP, whether a TCP segment answers (ACK or RST is set), the TTL or hop limit, the octets of the packet where they
    count (0: it is small), and whether it may be split: answers may, probes of a size may not."""

    source: Address
    destination: Address
    protocol: int = ICMP
    source_port: int = 0
    destination_port: int = 0
    icmp_type: int = 8
    answering: bool = False
    ttl: int = FIRST_TTL
    length: int = 0
    splits: bool = False


def probe_header(
    source: Address,
    destination: Address,
    probe: Probe = ECHO,
    *,
    answers: bool = False,
    number: int = 0,
    ttl: int = FIRST_TTL,
) -> Header:
    """The header of a probe, or of the answer to one.

    Args:
        source: who sends this packet.
        destination: who it is for.
        probe: what was sent.
        answers: whether this is the answer (a TCP segment with SYN and ACK, RFC 9293 3.5).
        number: which conversation it is; TCP and UDP begin each from a port of its own.
        ttl: the TTL or hop limit.
    """
    version = destination.version
    if probe.protocol == "icmp":
        protocol = ICMP if version == 4 else ICMP_V6
        kind, length = ECHO_TYPES[version, answers], probe.length(version)
        return Header(source, destination, protocol, icmp_type=kind, ttl=ttl, length=length, splits=answers)
    own = FIRST_OWN_PORT + number % (LAST_PORT - FIRST_OWN_PORT + 1)
    ports = (probe.port, own) if answers else (own, probe.port)
    tcp = probe.protocol == "tcp"
    return Header(source, destination, TCP if tcp else UDP, *ports, answering=tcp and answers, ttl=ttl)


def error_header(source: Address, destination: Address, ttl: int = FIRST_TTL) -> Header:
    """The header of an ICMP error."""
    version = destination.version
    return Header(source, destination, ICMP if version == 4 else ICMP_V6, icmp_type=ERROR_TYPES[version], ttl=ttl)
