"""The address list that people keep in a spreadsheet, read as a network.

A row is one address: of a device's interface, or of a host. In `plugged into` stands what the interface sits on: for a
host the place that it is plugged into (`quay-1/p3`), for a subinterface its parent (`p1`, or `p1 untagged`), for a link
aggregate its members (`p1+p2`), for a routed port itself, for a VLAN interface nothing. What such a list does not hold
(cables, trunks, routes) is not in the network that it becomes.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from typing import Any, NamedTuple

from archipelago.addressing.values import mask_length
from archipelago.errors import DocumentError, Problem, printable, quoted
from archipelago.files.network import FORMAT, network_from
from archipelago.files.tree import Tree
from archipelago.model.network import Network
from archipelago.model.parts import Mark, Path
from archipelago.model.values import NAME

COLUMNS = ("address", "prefix", "VLAN", "holder", "interface", "plugged into", "gateway")
"""The columns as they are written."""
HEADS = {
    "holder": ("holder", "device", "name", "host", "hostname", "node"),
    "interface": ("interface", "nic"),
    "VLAN": ("vlan", "vlan id", "vlan name"),
    "address": ("address", "ip", "ip address", "ipv4 address", "ipv6 address"),
    "prefix": ("prefix", "mask", "prefix length", "netmask", "subnet mask", "length"),
    "gateway": ("gateway", "default gateway"),
    "plugged into": ("plugged into", "port", "at", "switch port", "parent"),
}
"""What a column may be called, in any case and any order."""
LOOPBACK = "loopback"


class Row(NamedTuple):
    """One row of the table, as text."""

    address: str = ""
    prefix: str = ""
    vlan: str = ""
    holder: str = ""
    interface: str = ""
    plugged_into: str = ""
    gateway: str = ""

    @property
    def is_host(self) -> bool:
        """Whether it is a host's: plugged into DEVICE/PORT, which no port, parent or member is called like here."""
        device, slash, _ = self.plugged_into.partition("/")
        own = bool(self.interface) and self.interface.startswith(self.plugged_into)
        return bool(slash) and "+" not in self.plugged_into and NAME.fullmatch(device) is not None and not own


def network_of(text: str, source: str) -> Network:
    """The network that a table describes, as far as a table does.

    Args:
        text: comma-, semicolon- or tab-separated values with a line of heads, or a Markdown table.
        source: how errors name it.

    Raises:
        DocumentError: with every problem, each with its row and column.
    """
    table = _Table(text, source)
    table.read()
    if table.problems:
        raise DocumentError(source, table.problems)
    return network_from(Tree(source, table.document(), table.marks))


class _Table:
    """Reads a table into a document, remembering from which cell each value came."""

    def __init__(self, text: str, source: str) -> None:
        self._text = text
        self.problems: list[Problem] = []
        self.marks: dict[Path, Mark] = {(): Mark(1, 1, 1, 1), ("vlans",): Mark(1, 1, 1, 1)}
        self._places: dict[str, int] = {}
        self._vlans: dict[str, str] = {}
        self._devices: dict[str, dict[str, Any]] = {}
        self._hosts: dict[str, dict[str, Any]] = {}

    def document(self) -> dict[str, Any]:
        """The document that was read."""
        for device in self._devices.values():
            _kind(device)
        return {"format": FORMAT, "vlans": self._vlans, "devices": self._devices, "hosts": self._hosts}

    def read(self) -> None:
        """Read every row; problems are gathered."""
        lines = self._cells()
        first = next(lines, None)
        if first is None or not self._heads(first[1]):
            return
        rows = [(number, self._row(cells)) for number, cells in lines if any(cells)]
        for number, row in rows:
            self._vlan_id(number, row)
        for number, row in rows:
            if not row.holder:
                self._problem(number, "holder", "the row names no device")
            elif row.is_host:
                self._host(number, row)
        for number, row in rows:
            if row.holder and not row.is_host:
                self._interface(number, row)
        for number, row in rows:
            if row.is_host:
                self._plug(number, row)

    def _cells(self) -> Iterator[tuple[int, list[str]]]:
        text = self._text.lstrip("\ufeff")
        if text.lstrip().startswith("|"):
            for number, line in enumerate(text.splitlines(), 1):
                cells = [cell.strip().replace("\\|", "|") for cell in re.split(r"(?<!\\)\|", line.strip().strip("|"))]
                if not all(re.fullmatch(r":?-+:?", cell) for cell in cells):
                    yield number, cells
            return
        head = text.split("\n", 1)[0]
        delimiter = max(",;\t", key=head.count)
        reader = csv.reader(io.StringIO(text), delimiter=delimiter)
        try:
            for cells in reader:
                yield reader.line_num, [cell.strip() for cell in cells]
        except csv.Error as error:
            self.problems.append(Problem(reader.line_num, 1, f"this is no row of a table: {error}"))

    def _heads(self, cells: list[str]) -> bool:
        known = {word: column for column, words in HEADS.items() for word in words}
        for place, cell in enumerate(cells):
            column = known.get(" ".join(cell.lower().split()))
            if column is not None:
                self._places.setdefault(column, place)
        lacking = [column for column in ("holder", "address") if column not in self._places]
        if lacking:
            told = f"the first line has no column {' and no column '.join(lacking)}; known heads: {', '.join(COLUMNS)}"
            self.problems.append(Problem(1, 1, told))
        return not lacking

    def _row(self, cells: list[str]) -> Row:
        at = [self._places.get(column, len(cells)) for column in COLUMNS]
        return Row(*(cells[place] if place < len(cells) else "" for place in at))

    def _problem(self, number: int, column: str, told: str) -> None:
        self.problems.append(Problem(number, self._places.get(column, 0) + 1, printable(told)))

    def _mark(self, path: Path, number: int, column: str) -> None:
        place = self._places.get(column, 0) + 1
        self.marks.setdefault(path, Mark(number, place, number, place))

    def _vlan_id(self, number: int, row: Row) -> None:
        named = re.fullmatch(r"(.*?)\s*\((\d{1,9})\)", row.vlan)
        name, vlan = (named[1], named[2]) if named else ("", row.vlan) if row.vlan.isdigit() else (row.vlan, "")
        if named and name:
            other = self._vlans.setdefault(name, vlan)
            self._mark(("vlans", name), number, "VLAN")
            if other != vlan:
                self._problem(number, "VLAN", f"VLAN {quoted(name)} has the id {other} in a row above, and {vlan} here")
        elif vlan and vlan != "1" and vlan not in self._vlans.values():
            self._vlans[f"vlan-{vlan}"] = vlan
            self._mark(("vlans", f"vlan-{vlan}"), number, "VLAN")

    def _vlan(self, number: int, row: Row) -> str:
        """The VLAN of a row by name or id; empty where it has none."""
        named = re.fullmatch(r"(.*?)\s*\((\d{1,9})\)", row.vlan)
        word = (named[1] or named[2]) if named else row.vlan
        if word and not word.isdigit() and word not in self._vlans:
            self._problem(
                number, "VLAN", f"VLAN {quoted(word)} has no id; write it like {word} (220), in one row at least"
            )
        return word

    def _address(self, number: int, row: Row) -> str:
        """The address of a row with its prefix length; empty where it has none."""
        if row.address in ("", "auto") or "/" in row.address:
            return row.address
        length = row.prefix.lstrip("/")
        if "." in length:
            bits = mask_length(length)
            if bits is None:
                self._problem(number, "prefix", f"{quoted(row.prefix)} is not a mask; write 255.255.255.0, or /24")
                return ""
            length = str(bits)
        if not length:
            write = f"{row.address}/{24 if ':' not in row.address else 64}"
            self._problem(number, "address", f"{quoted(row.address)} lacks its mask or prefix length; write {write}")
            return ""
        return f"{row.address}/{length}"

    def _common(self, number: int, row: Row, path: Path, into: dict[str, Any]) -> None:
        """The address of a row."""
        address = self._address(number, row)
        self._mark(path, number, "holder")
        self._mark((*path, "address"), number, "address")
        if address:
            into.setdefault("address", []).append(address)
            self._mark((*path, "address", len(into["address"]) - 1), number, "address")

    def _gateways(self, number: int, row: Row, path: Path, into: dict[str, Any]) -> None:
        for hop in row.gateway.split():
            if hop not in into.setdefault("gateway", []):
                into["gateway"].append(hop)
                self._mark((*path, "gateway", len(into["gateway"]) - 1), number, "gateway")

    def _host(self, number: int, row: Row) -> None:
        path: Path = ("hosts", row.holder)
        host = self._hosts.setdefault(row.holder, {"at": row.plugged_into})
        self._mark((*path, "at"), number, "plugged into")
        if host["at"] != row.plugged_into:
            self._problem(
                number, "plugged into", f"{quoted(row.holder)} is at {host['at']} in a row above; it has one place"
            )
        self._common(number, row, path, host)
        self._gateways(number, row, path, host)

    def _interface(self, number: int, row: Row) -> None:
        if row.holder in self._hosts or not row.interface:
            told = f"{quoted(row.holder)}: a host's port is written DEVICE/PORT; a device's row names its interface"
            self._problem(number, "plugged into", told)
            return
        device = self._device(number, row.holder)
        vlan, path = self._vlan(number, row), ("devices", row.holder, "interfaces", row.interface)
        ports, interfaces = device.setdefault("ports", {}), device.setdefault("interfaces", {})
        if row.plugged_into in ("", row.interface) and not vlan:
            path = ("devices", row.holder, "ports", row.interface)
            self._common(number, row, path, ports.setdefault(row.interface, {}))
        else:
            section = interfaces.setdefault(row.interface, {})
            self._common(number, row, path, section)
            if row.plugged_into == LOOPBACK:
                section["loopback"] = "yes"
            elif "+" in row.plugged_into:
                section["members"] = [member for member in row.plugged_into.split("+") if member]
            elif row.plugged_into:
                parent, _, untagged = row.plugged_into.partition(" ")
                section.update(
                    {"parent": parent} | ({"tag": vlan} if vlan else {}) | ({"untagged": "yes"} if untagged else {})
                )
                self._mark((*path, "parent"), number, "plugged into")
                self._mark((*path, "tag"), number, "VLAN")
                ports.setdefault(parent, {})
            else:
                section["vlan"] = vlan
                self._mark((*path, "vlan"), number, "VLAN")
        self._gateways(number, row, ("devices", row.holder), device)

    def _device(self, number: int, name: str) -> dict[str, Any]:
        self._mark(("devices", name), number, "holder")
        return self._devices.setdefault(name, {"kind": ""})

    def _plug(self, number: int, row: Row) -> None:
        """Set the port that a host is plugged into to its VLAN; not one that has an address, or is a router's."""
        name, _, port = row.plugged_into.partition("/")
        vlan = self._vlan(number, row)
        device = self._device(number, name)
        if name in self._devices and _routes_by_ports(device):
            return
        ports = device.setdefault("ports", {})
        members = [member for part in device.get("interfaces", {}).values() for member in part.get("members", ())]
        if "address" not in ports.get(port, {}) and port not in members:
            ports[port] = {"access": vlan} if vlan else {"trunk": [], "untagged": "none"}
            self._mark(("devices", name, "ports", port, "access"), number, "VLAN")


def _routes_by_ports(device: dict[str, Any]) -> bool:
    """Whether a device is a router by its rows: it has subinterfaces or routed ports, and no VLAN interface."""
    interfaces = device.get("interfaces", {}).values()
    own = any("address" in port for port in device.get("ports", {}).values())
    own = own or any("vlan" not in part for part in interfaces)
    return own and not any("vlan" in part for part in interfaces)


def _kind(device: dict[str, Any]) -> None:
    """Say of a device which kind it is: what its interfaces can only be, or what they are enough for."""
    interfaces = device.get("interfaces", {})
    vlans = [part for part in interfaces.values() if "vlan" in part]
    parents = {part["parent"] for part in interfaces.values() if "parent" in part}
    routed = parents or any("address" in port for port in device.get("ports", {}).values())
    routed = routed or any("members" in part or "loopback" in part for part in interfaces.values())
    if _routes_by_ports(device):
        device["kind"] = "router"
    elif len(vlans) > 1 or (vlans and routed):
        device.update(kind="l3switch", routing=["ipv4", "ipv6"])
        for parent in parents:
            if "address" not in device["ports"].get(parent, {"address": ""}):
                device["ports"][parent]["routed"] = "yes"
    else:
        device["kind"] = "switch"
