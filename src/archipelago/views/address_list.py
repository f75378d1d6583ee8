"""The address list of a network, as people keep it in a spreadsheet; `files/address_list` reads it."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator

from archipelago.addressing.values import InterfaceAddress
from archipelago.diagnosis.places import plugged_vlan
from archipelago.files.address_list import COLUMNS, LOOPBACK, Row
from archipelago.knowledge.index import index_network
from archipelago.model.network import Network
from archipelago.model.parts import Aggregate, Interface, Loopback, NextHop, Subinterface, VlanInterface


def rows_of(network: Network) -> Iterator[Row]:
    """The rows of a network: devices first, each address of each interface, then hosts."""
    index = index_network(network)

    def vlan_text(vlan: int | None) -> str:
        name = index.names.get(vlan)
        return "" if vlan is None else f"{name} ({vlan})" if name else str(vlan)

    for device in network.devices.values():
        for name, port in device.ports.items():
            yield from _rows(Row(holder=device.name, interface=name, plugged_into=name), port.addresses, device.gateway)
        for name, interface in device.interfaces.items():
            number = interface.tag if isinstance(interface, Subinterface) else None
            number = interface.vlan if isinstance(interface, VlanInterface) else number
            where = _sits_on(interface)
            row = Row(vlan=vlan_text(number), holder=device.name, interface=name, plugged_into=where)
            yield from _rows(row, interface.addresses, device.gateway)
    for host in network.hosts.values():
        vlan = vlan_text(plugged_vlan(index.knowledge, host))
        row = Row(vlan=vlan, holder=host.name, plugged_into=str(host.at))
        written = list(_rows(row, host.addresses, host.gateway))
        if host.auto:
            hops = " ".join(str(hop) for hop in host.gateway if not host.addresses or hop.address.version == 6)
            written.append(row._replace(address="auto", gateway=hops))
        yield from written or [row._replace(gateway=" ".join(map(str, host.gateway)))]


def _sits_on(interface: Interface) -> str:
    if isinstance(interface, Subinterface):
        return f"{interface.parent} untagged" if interface.untagged else interface.parent
    if isinstance(interface, Aggregate):
        return "+".join(interface.members) or "+"
    return LOOPBACK if isinstance(interface, Loopback) else ""


def _rows(row: Row, addresses: tuple[InterfaceAddress, ...], gateway: tuple[NextHop, ...]) -> Iterator[Row]:
    """A row for each address, with the gateways of its family."""
    for address in addresses:
        hops = " ".join(str(hop) for hop in gateway if hop.address.version == address.version)
        yield row._replace(address=str(address.address), prefix=str(address.length), gateway=hops)


def as_csv(network: Network) -> str:
    """The table as comma-separated values."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(COLUMNS)
    writer.writerows(rows_of(network))
    return text.getvalue()


def as_markdown(network: Network) -> str:
    """The table as Markdown."""
    lines = [COLUMNS, ("---",) * len(COLUMNS), *rows_of(network)]
    return "\n".join("| " + " | ".join(cell.replace("|", "\\|") for cell in line) + " |" for line in lines) + "\n"
