"""Hosts that only their names, their own addresses and ports tell apart: what holds for one holds for all."""

from __future__ import annotations

from typing import Any

from archipelago.addressing.values import WIDTHS
from archipelago.knowledge.devices import Attachment, Devices
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.parts import End, Host
from archipelago.model.projection import Projection

READS = Projection(
    Device="kind vlans ports interfaces",
    Port="name access trunk untagged addresses routed mtu",
    Aggregate="name members access trunk untagged addresses routed mtu",
    Subinterface="name",
    VlanInterface="name",
    Loopback="name",
)
"""What of a device decides which of its ports are set up alike for hosts."""


def plugged_alike(devices: Devices, at: End) -> object:
    """What the ports of one device must have in common for their hosts to be alike: all that is set there, or the port
    itself where it is routed or a member of an aggregate."""
    return set_up_alike(devices.attachment_at(at), at)


def set_up_alike(attachment: Attachment, at: End) -> object:
    """The same, of the attachment that the port is or is a member of."""
    if not attachment.switched or len(attachment.members) > 1:
        return at.port
    written = attachment.written
    return attachment.vlans, attachment.untagged, written.access, written.trunk, written.untagged, written.mtu


def port_settings(index: NetworkIndex) -> dict[str, list[Attachment]]:
    """The attachments of each device that are set to different VLANs, or on and off: of those alike the first."""
    kinds: dict[str, list[Attachment]] = {}
    for node in index.knowledge.devices.values():
        by_setting: dict[Any, Attachment] = {}
        for attachment in node.attachments.values():
            written = attachment.written
            setting = (attachment.switched, written.access, written.trunk, written.untagged, written.off)
            by_setting.setdefault(setting, attachment)
        kinds[node.name] = list(by_setting.values())
    return kinds


def alike_hosts(index: NetworkIndex) -> list[list[Host]]:
    """The hosts in groups: plugged into one device alike, of the same subnets, with the same gateways, with carrier. A
    host without carrier is a group of its own."""
    devices, links = index.knowledge.devices, index.knowledge.links
    groups: dict[Any, list[Host]] = {}
    for host in index.network.hosts.values():
        at = host.at
        attachment = devices.attachment_at(at)
        if host.off or attachment.down is not None or (len(attachment.members) > 1 and not links[at].carrier):
            groups[host.name] = [host]
            continue
        subnets = tuple(
            [
                (address.version, address.length, address.value >> (WIDTHS[address.version] - address.length))
                for address in host.addresses
            ]
        )
        homes = tuple([index.narrower_homes(address) for address in host.addresses])
        key = (at.device, set_up_alike(attachment, at), subnets, homes, host.gateway, host.auto, host.dhcp, host.mtu)
        groups.setdefault(key, []).append(host)
    return list(groups.values())
