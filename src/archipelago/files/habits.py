"""Words that people write out of habit, and what is written here instead: told where a key is not known."""

from __future__ import annotations

from collections.abc import Container

_NAME = ("", "a part has its name before the colon, as in 'quay-1: {kind: switch}'")
_ADDRESS = (
    ("address", "write 'address: 10.44.1.10/24', with the prefix length"),
    ("interfaces", "an address is one of an interface, or of a routed port"),
)
_LENGTH = (("address", "the prefix length stands with the address, as in 'address: 10.44.1.10/24'"),)
_GATEWAY = (("gateway", "write 'gateway: 10.44.1.1'"),)
_CABLES = (("cables", "write 'cables: [landing/p1 ~ quay-1/p24]'"), ("at", "write 'at: quay-1/p1'"))
_PORT = (("at", "write 'at: quay-1/p1': the device and the port that it is plugged into"),)
_SWITCHED = (
    ("trunk", "a port is what its key says: 'access: tickets', or 'trunk: [tickets, crew]'"),
    ("kind", "write 'kind: router', 'kind: l3switch' or 'kind: switch'"),
)
_VLAN = (
    ("vlan", "write 'vlan: tickets'"),
    ("access", "write 'access: tickets', or 'trunk: [tickets, crew]'"),
    ("tag", "write 'tag: tickets'"),
    ("at", "a host is in the VLAN of the port that it is plugged into"),
    ("vlans", "write 'vlans: {tickets: 210}'"),
)
_UNTAGGED = (("untagged", "write 'untagged: tickets' on a trunk, 'access: tickets' on any other port"),)
_TRUNK = (("trunk", "write 'trunk: [tickets, crew]'"),)
_OFF = (("off", "write 'off: true'; what is not off is on"),)
_KIND = (("kind", "write 'kind: router', 'kind: l3switch' or 'kind: switch'"),)
_DESCRIPTION = (("description", "write 'description: ...'"),)
_DEVICES = (("devices", "write 'devices: {quay-1: {kind: switch}}'"),)
_HOSTS = (("hosts", "write 'hosts: {kiosk-a: {at: quay-1/p1}}'"),)
_ROUTES = (("routes", "write 'routes: [{destination: 0.0.0.0/0, next-hop: 10.44.1.1}]'"),)
_DESTINATION = (("destination", "write 'destination: 10.44.8.0/24'"),)
_NEXT_HOP = (("next-hop", "write 'next-hop: 10.44.1.1'"),)
_LEASES = (
    ("dhcp-pools", "addresses to lease are 'dhcp-pools: {crew: {subnet: 10.44.2.0/24, range: ...}}'"),
    ("dhcp-relay", "what relays has 'dhcp-relay: 10.44.1.5'"),
    ("address", "who leases its address has 'address: dhcp'"),
)
_NAMES = (("dns-server", "write 'dns-server: 10.44.1.5'"), ("dhcp-pools", "name servers are those of a pool"))
_FILTERS = (
    ("filters", "write 'filters: {NAME: {rules: [...]}}', and 'filter-in: NAME' on an interface"),
    ("filter-in", "write 'filter-in: NAME' or 'filter-out: NAME'"),
)
_ROUTING = (("routing", "write 'routing: [ipv4, ipv6]', or '[]' for what only switches"),)

HABITS: dict[str, tuple[tuple[str, str], ...]] = {
    **dict.fromkeys(("name", "hostname", "label"), (_NAME,)),
    **dict.fromkeys(("ip", "ipv4", "ipv6", "ip-address", "addr", "addresses", "ips"), _ADDRESS),
    **dict.fromkeys(("mask", "netmask", "subnet-mask", "prefix-length", "prefixlen", "cidr"), _LENGTH),
    **dict.fromkeys(("gw", "default-gateway", "default-gw", "router-ip"), (*_GATEWAY, *_ROUTES)),
    **dict.fromkeys(("links", "link", "connections", "cabling", "wires", "cable", "edges", "connected-to"), _CABLES),
    **dict.fromkeys(("port", "switch", "plugged-into", "attached-to", "location"), _PORT),
    **dict.fromkeys(("mode", "port-mode"), _SWITCHED),
    **dict.fromkeys(("vlan", "vlan-id", "vid", "vlan-name"), _VLAN),
    **dict.fromkeys(("pvid", "untagged-vlan"), _UNTAGGED),
    **dict.fromkeys(("tagged", "allowed", "allowed-vlans", "trunk-vlans"), _TRUNK),
    **dict.fromkeys(("disabled", "disable", "down", "enabled", "enable", "up", "status", "state", "admin"), _OFF),
    **dict.fromkeys(("type", "role", "device-type"), _KIND),
    **dict.fromkeys(("comment", "note", "notes", "remark", "desc", "title", "info"), _DESCRIPTION),
    **dict.fromkeys(("switches", "routers", "nodes", "equipment"), _DEVICES),
    **dict.fromkeys(("pcs", "clients", "computers", "endpoints", "servers", "stations"), _HOSTS),
    **dict.fromkeys(("route", "static-routes", "static-route", "default-route"), _ROUTES),
    **dict.fromkeys(("to", "dest", "dst", "target", "prefix"), _DESTINATION),
    **dict.fromkeys(("via", "nexthop", "next"), _NEXT_HOP),
    **dict.fromkeys(("dhcp", "dhcp-server", "pool", "pools", "relay"), _LEASES),
    **dict.fromkeys(("dns", "nameserver", "name-server", "dns-servers"), _NAMES),
    **dict.fromkeys(("acl", "acls", "firewall", "rules"), _FILTERS),
    **dict.fromkeys(("forwarding", "route-between", "l3", "layer3"), _ROUTING),
}
"""Of each word what is said, the first whose key a section takes ("" any)."""


def habit(word: str, known: Container[str]) -> str | None:
    """What is written instead of a word of habit in a section; None where nothing comes near.

    Args:
        word: the key that is not known.
        known: the keys of the section.
    """
    told = HABITS.get(word.lower().replace("_", "-"), ())
    return next((says for key, says in told if not key or key in known), None)
