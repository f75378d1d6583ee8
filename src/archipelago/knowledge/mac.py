"""The MAC address of every interface, and what IPv6 makes of it."""

from __future__ import annotations

from archipelago.addressing.values import Address

_DEVICES = 0x0200_0000_0000
_HOSTS = 0x0600_0000_0000
_VIRTUAL_IPV4, _VIRTUAL_IPV6 = 0x0000_5E00_0100, 0x0000_5E00_0200
_PORTS = 1 << 12
"""Addresses are given out in order from the locally administered ones (IEEE 802 8.4), so many to each device."""


def device_mac(number: int, port: int = 0) -> int:
    """The MAC address of a device, by its place in the network, or of its port of that number, counted from 1."""
    return _DEVICES + (number + 1) * _PORTS + port


def host_mac(number: int) -> int:
    """The MAC address of a host, by its place in the network."""
    return _HOSTS + number + 1


def virtual_mac(vrid: int, family: int) -> int:
    """The MAC address that a virtual router's addresses are reached by (RFC 9568 7.3)."""
    return (_VIRTUAL_IPV4 if family == 4 else _VIRTUAL_IPV6) | vrid


def interface_id(mac: int) -> int:
    """The lower 64 bits of the addresses that an interface gives itself (RFC 4291 2.5.1 and appendix A)."""
    return (mac >> 24 ^ 0x02_0000) << 40 | 0xFF_FE << 24 | mac & 0xFF_FFFF


def link_local(mac: int) -> Address:
    """The address that an interface has on its link from the start (RFC 4291 2.5.6, RFC 4862 5.3)."""
    return Address(6, 0xFE80 << 112 | interface_id(mac))
