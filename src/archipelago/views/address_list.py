"""The address list of a network, as people keep it in a spreadsheet; `files/address_list` reads it."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Mapping
from datetime import datetime
from typing import Any

from archipelago.addressing.values import InterfaceAddress
from archipelago.diagnosis.places import plugged_vlan
from archipelago.errors import QueryError
from archipelago.files.address_list import COLUMNS, LOOPBACK, Row, address_list_of
from archipelago.files.sheet import guarded
from archipelago.files.sheet_tables import says_nothing
from archipelago.files.write import document_of
from archipelago.knowledge.index import index_network
from archipelago.model.network import Network
from archipelago.model.parts import Aggregate, Interface, Loopback, NextHop, Subinterface, VlanInterface


def rows_of(network: Network) -> Iterator[Row]:
    """The rows of a network: devices first, each address of each interface, then hosts, then VLANs that nobody has an
    address in."""
    index = index_network(network)
    shown: set[str] = set()

    def vlan_text(vlan: int | None) -> str:
        name = index.names.get(vlan)
        return "" if vlan is None else f"{name} ({vlan})" if name else str(vlan)

    for device in network.devices.values():
        own = Row(holder=device.name, kind=device.kind)
        written: list[Row] = []
        for name, port in device.ports.items():
            row = own._replace(interface=name, plugged_into=name, description=port.description or "")
            written += _rows(row, port.addresses, device.gateway)
        for name, interface in device.interfaces.items():
            number = interface.tag if isinstance(interface, Subinterface) else None
            number = interface.vlan if isinstance(interface, VlanInterface) else number
            row = own._replace(vlan=vlan_text(number), interface=name, plugged_into=_sits_on(interface))
            shown.add(row.vlan)
            row = row._replace(description=interface.description or "")
            written += _rows(row, interface.addresses, device.gateway)
        if device.description or not written:
            yield own._replace(description=device.description or "")
        yield from written
    for host in network.hosts.values():
        vlan = vlan_text(plugged_vlan(index.knowledge, host))
        shown.add(vlan)
        row = Row(vlan=vlan, holder=host.name, plugged_into=str(host.at), kind="host")
        row = row._replace(description=host.description or "")
        written = list(_rows(row, host.addresses, host.gateway))
        for word in [*(["dhcp"] if host.dhcp else []), *(["auto"] if host.auto else [])]:
            version = 4 if word == "dhcp" else 6
            hops = [str(hop) for hop in host.gateway if not host.addresses or hop.address.version == version]
            written.append(row._replace(address=word, gateway=" ".join(hops)))
        yield from written or [row._replace(gateway=" ".join(map(str, host.gateway)))]
    for number in network.vlans.values():
        if vlan_text(number) not in shown:
            yield Row(vlan=vlan_text(number))


def _sits_on(interface: Interface) -> str:
    if isinstance(interface, Subinterface):
        # A port may be called `na`, which alone says that a cell holds nothing, or `loopback`.
        tagged = " tagged" if says_nothing(interface.parent) or interface.parent == LOOPBACK else ""
        return f"{interface.parent} untagged" if interface.untagged else f"{interface.parent}{tagged}"
    if isinstance(interface, Aggregate):
        return "+".join(interface.members) if len(interface.members) > 1 else f"{''.join(interface.members)}+"
    return LOOPBACK if isinstance(interface, Loopback) else ""


def _rows(row: Row, addresses: tuple[InterfaceAddress, ...], gateway: tuple[NextHop, ...]) -> Iterator[Row]:
    """A row for each address, with the gateways of its family."""
    for address in addresses:
        hops = " ".join(str(hop) for hop in gateway if hop.address.version == address.version)
        yield row._replace(address=str(address.address), prefix=str(address.length), gateway=hops)


def separated(network: Network, delimiter: str = ",") -> str:
    """The table as separated values."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n", delimiter=delimiter)
    writer.writerow(COLUMNS)
    writer.writerows(map(guarded, row) for row in rows_of(network))
    return text.getvalue()


def as_workbook(network: Network) -> bytes:
    """A workbook with a sheet of addresses and one of cables.

    Raises:
        QueryError: the library that writes workbooks is not there.
    """
    try:
        from openpyxl import Workbook
    except ImportError:
        raise QueryError("workbooks are written by openpyxl: pip install 'archipelago[sheet]'") from None
    book = Workbook()
    cables = [("end", "end"), *((str(cable.a), str(cable.b)) for cable in network.cables)]
    addresses = book.active
    assert addresses is not None
    addresses.title = "addresses"
    for sheet, rows in ((addresses, [COLUMNS, *rows_of(network)]), (book.create_sheet("cables"), cables)):
        for number, row in enumerate(rows, 1):
            for column, text in enumerate(row, 1):
                sheet.cell(number, column, guarded(text)).data_type = "s"
        sheet.freeze_panes = "A2"
    # The time of making is left out: equal networks make equal files.
    book.properties.created = book.properties.modified = datetime(1980, 1, 1)
    content = io.BytesIO()
    book.save(content)
    return content.getvalue()


def as_markdown(network: Network) -> str:
    """The table as Markdown."""
    lines = [COLUMNS, ("---",) * len(COLUMNS), *rows_of(network)]
    return "\n".join("| " + " | ".join(_cell(cell) for cell in line) + " |" for line in lines) + "\n"


def _cell(text: str) -> str:
    return guarded(" ".join(text.split())).replace("|", "\\|")


# What a list does not hold


def left_out(network: Network, written: str | bytes) -> Iterator[str]:
    """What of a network is not in its address list, a line for each sort of part: the keys that a network read from the
    list lacks, or has otherwise.

    Args:
        network: the network.
        written: its list.
    """
    content = written.encode() if isinstance(written, str) else written
    before, after = document_of(network), document_of(address_list_of(content, "the list").network)
    lacking: dict[str, set[str]] = {}
    for key, value in before.items():
        if key not in ("devices", "hosts"):
            _compare({key: value}, after, "", lacking)
            continue
        for name, part in value.items():
            there = (after.get(key) or {}).get(name, {})
            groups = {word: part[word] for word in ("ports", "interfaces") if word in part}
            _compare({word: own for word, own in part.items() if word not in groups}, there, key, lacking)
            for word, parts in groups.items():
                for label, own in parts.items():
                    _compare(own or {}, (there.get(word) or {}).get(label) or {}, word, lacking)
    for sort, words in lacking.items():
        yield f"not in it{f', of {sort}' if sort else ''}: {', '.join(sorted(words))}"


def _compare(before: Mapping[str, Any], after: Mapping[str, Any], sort: str, lacking: dict[str, set[str]]) -> None:
    words = {word for word, value in before.items() if after.get(word) != value}
    if words:
        lacking.setdefault(sort, set()).update(words)
