"""The names of a network as zone files (RFC 1035 5): the forward zone of its domain, and reverse zones."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterator
from dataclasses import dataclass

from archipelago.addressing.values import Address, is_link_local
from archipelago.errors import QueryError
from archipelago.model.network import Network, pools_in

TTL = 3600
"""How long an answer may be kept, in seconds."""
SERIAL, REFRESH, RETRY, EXPIRE = 1, 7_200, 1_800, 1_209_600
"""What the start of authority says (RFC 1035 3.3.13): the serial is for whoever publishes the zone to raise."""
BLOCK = {4: 24, 6: 64}
"""A reverse zone is for a block of this prefix length: whole labels of in-addr.arpa and ip6.arpa (RFC 1035 3.5,
RFC 3596 2.5)."""
SERVER = "ns"
"""What the name server is called where the network names none that it holds."""
_OTHER = re.compile(r"[^a-z0-9-]+")


@dataclass(frozen=True, slots=True)
class Named:
    """A label of the forward zone, and an address that it stands for; `whose` is the part of the network."""

    label: str
    address: Address
    whose: str


def zone_files(network: Network) -> dict[str, str]:
    """The zone files of a network, by file name: its forward zone, then the reverse zones.

    Raises:
        QueryError: the network has no domain.
    """
    if not network.domain:
        raise QueryError("the network has no 'domain'; write one, such as domain: ferry.example")
    named = list(names_of(network))
    files = {f"{network.domain}.zone": _forward(network.domain, named, _name_servers(network, named))}
    by_block: dict[str, list[Named]] = {}
    for one in named:
        by_block.setdefault(_block_of(one.address), []).append(one)
    for block, members in sorted(by_block.items()):
        files[f"{block}.zone"] = _reverse(network.domain, block, members, _name_servers(network, named))
    return files


def names_of(network: Network) -> Iterator[Named]:
    """Every label: hosts, those that lease where an address is kept for them, devices by their first address of a
    family, and each interface of a device."""
    kept = {host: address for pool in pools_in(network) for host, address in pool.reservations.items()}
    taken: dict[str, str] = {}
    for host in network.hosts.values():
        own = [address.address for address in host.addresses]
        if host.dhcp and host.name in kept:
            own.insert(0, kept[host.name])
        label = _label(host.name, taken) if own else ""
        yield from (Named(label, address, host.name) for address in own)
    for device in network.devices.values():
        parts = [part for part in (*device.interfaces.values(), *device.ports.values()) if part.addresses]
        first: dict[int, Address] = {}
        for part in parts:
            own = [address.address for address in part.addresses if not is_link_local(address)]
            label = _label(f"{part.name}-{device.name}", taken) if own else ""
            for address in own:
                first.setdefault(address.version, address)
                yield Named(label, address, f"{device.name}/{part.name}")
        label = _label(device.name, taken) if first else ""
        yield from (Named(label, address, device.name) for address in first.values())


def _label(name: str, taken: dict[str, str]) -> str:
    """A name as a label (RFC 1035 2.3.1): letters, digits and hyphens, 63 at most; made different where it is not."""
    plain = (_OTHER.sub("-", name.lower()).strip("-") or "x")[:60].rstrip("-")
    label, number = plain, 2
    while taken.setdefault(label, name) != name:
        label, number = f"{plain[:56]}-{number}", number + 1
    return label


def _block_of(address: Address) -> str:
    """The reverse zone that an address is in."""
    kind = ipaddress.IPv4Address if address.version == 4 else ipaddress.IPv6Address
    labels = kind(address.value).reverse_pointer.split(".")
    own = (32 - BLOCK[4]) // 8 if address.version == 4 else (128 - BLOCK[6]) // 4
    return ".".join(labels[own:])


def _name_servers(network: Network, named: list[Named]) -> list[str]:
    """The labels of the name servers that pools give out, as far as the network holds them."""
    given = dict.fromkeys(server for pool in pools_in(network) for server in pool.dns_server)
    labels = [one.label for server in given for one in named if one.address == server]
    return list(dict.fromkeys(labels)) or [SERVER]


def _forward(domain: str, named: list[Named], servers: list[str]) -> str:
    records = [(one.label, "A" if one.address.version == 4 else "AAAA", str(one.address)) for one in named]
    return _zone(domain, domain, servers, records)


def _reverse(domain: str, block: str, named: list[Named], servers: list[str]) -> str:
    records: dict[str, tuple[str, str, str]] = {}
    for one in named:
        kind = ipaddress.IPv4Address if one.address.version == 4 else ipaddress.IPv6Address
        owner = kind(one.address.value).reverse_pointer.removesuffix(f".{block}")
        records.setdefault(owner, (owner, "PTR", f"{one.label}.{domain}."))
    return _zone(domain, block, servers, list(records.values()))


def _zone(domain: str, origin: str, servers: list[str], records: list[tuple[str, str, str]]) -> str:
    """A zone as its file: the start of authority, the name servers, then the records."""
    import dns.name
    import dns.rdata
    import dns.rdataclass
    import dns.rdatatype
    import dns.zone

    root = dns.name.from_text(f"{origin}.")
    zone = dns.zone.Zone(root)
    hosts = [f"{server}.{domain}." for server in servers]
    times = f"{SERIAL} {REFRESH} {RETRY} {EXPIRE} {TTL}"
    own = [("@", "SOA", f"{hosts[0]} hostmaster.{domain}. {times}"), *(("@", "NS", host) for host in hosts)]
    for owner, kind, text in [*own, *records]:
        number = dns.rdatatype.from_text(kind)
        data = dns.rdata.from_text(dns.rdataclass.IN, number, text, origin=root)
        zone.find_rdataset(owner, number, create=True).add(data, TTL)
    return f"$ORIGIN {origin}.\n$TTL {TTL}\n{zone.to_text(sorted=False, relativize=True)}"
