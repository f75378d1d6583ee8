"""The sheet that people keep of their addresses, read as a network.

A row is one address: of a device's interface, or of a host. In `plugged into` stands what the interface sits on: for a
host the place that it is plugged into (`quay-1/p3`), for a subinterface its parent (`p1`, or `p1 untagged`), for a link
aggregate its members (`p1+p2`), for a routed port itself, for a VLAN interface nothing. Where a sheet has no such
column the names of interfaces say it (`p1.210`, `vlan 210`), and what was taken to be what is noted. Beside addresses a
sheet can have tables of VLANs, of switches' ports and of cables. What it does not hold is not in the network that it
becomes.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from archipelago.addressing.values import Prefix, mask_length, parse_interface_address
from archipelago.answer import OneLine
from archipelago.errors import AddressError, DocumentError, Problem, printable, quoted
from archipelago.files.network import FORMAT, network_from
from archipelago.files.sheet import Sheet, sheets_of
from archipelago.files.sheet_tables import Place, cell_of, row_text, tables_of
from archipelago.files.tree import Tree
from archipelago.model.network import Network
from archipelago.model.parts import DEFAULT_VLAN, Mark, Path
from archipelago.model.values import NAME, PORT_NAME

COLUMNS = (
    *("address", "prefix", "VLAN", "holder", "interface", "plugged into", "gateway", "kind", "description"),
)  # fmt: skip
"""The columns as they are written."""
LOOPBACK = "loopback"
KINDS = {
    **dict.fromkeys(("router",), "router"),
    **dict.fromkeys(("l3switch", "layer 3 switch", "l3 switch", "multilayer switch", "routing switch"), "l3switch"),
    **dict.fromkeys(("switch", "layer 2 switch", "l2 switch", "access switch"), "switch"),
    **dict.fromkeys(("host", "pc", "server", "client", "computer", "laptop", "printer", "phone", "camera"), "host"),
}
"""What a kind of device, or a host, is called in sheets."""
NOWHERE = "unplaced"
"""The switch that hosts are at of which a sheet does not say where they are plugged in."""
_WORDS = {
    **dict.fromkeys(("dhcp", "dynamic", "leased"), "dhcp"),
    **dict.fromkeys(("auto", "automatic", "slaac"), "auto"),
}
"""What stands for an address that a host gets from others."""
_CARD = re.compile(r"(nic|network card|card|adapter|lan|wlan|ethernet|eth|en|eno|ens|enp)[ -]?\d*", re.IGNORECASE)
"""What the interface of a host is called."""
_VLAN_INTERFACE = re.compile(r"vlan[ -]?(\d{1,4})", re.IGNORECASE)
_LOOPBACK = re.compile(r"(lo|loopback)[ -]?\d*", re.IGNORECASE)
_SUBINTERFACE = re.compile(r"(.+)\.(\d{1,4})")
_NAMED_VLAN = re.compile(r"(.*?)\s*\((\d{1,9})\)")


class Row(NamedTuple):
    """One row of a table of addresses, as text."""

    address: str = ""
    prefix: str = ""
    vlan: str = ""
    holder: str = ""
    interface: str = ""
    plugged_into: str = ""
    gateway: str = ""
    kind: str = ""
    description: str = ""

    @property
    def at_a_port(self) -> bool:
        """Whether it is plugged into DEVICE/PORT, which no port, parent or member is called like here."""
        device, slash, _ = self.plugged_into.partition("/")
        own = bool(self.interface) and self.interface.startswith(self.plugged_into)
        return bool(slash) and "+" not in self.plugged_into and NAME.fullmatch(device) is not None and not own


@dataclass(frozen=True, slots=True, repr=False)
class AddressList(OneLine):
    """A network as a sheet has it; what was taken to be what, and what was not understood, in words."""

    network: Network
    notes: tuple[str, ...]


def address_list_of(content: bytes, source: str) -> AddressList:
    """The network that a sheet describes, as far as a sheet does.

    Args:
        content: separated values, Markdown, or a workbook.
        source: how errors name it.

    Raises:
        DocumentError: with every problem, each with its row and column.
    """
    reader = _Reader()
    reader.read(sheets_of(content, source))
    if reader.problems:
        raise DocumentError(source, reader.problems)
    network = network_from(Tree(source, reader.document(), reader.marks))
    return AddressList(network, tuple(dict.fromkeys(reader.notes)))


class _Reader:
    """Reads sheets into a document, remembering from which cell each value came."""

    def __init__(self) -> None:
        self.problems: list[Problem] = []
        self.notes: list[str] = []
        self.marks: dict[Path, Mark] = {(): Mark(1, 1, 1, 1), ("vlans",): Mark(1, 1, 1, 1)}
        self._vlans: dict[str, str] = {}
        self._devices: dict[str, dict[str, Any]] = {}
        self._hosts: dict[str, dict[str, Any]] = {}
        self._cables: list[str] = []
        self._kinds: dict[str, str] = {}
        self._families: dict[str, set[str]] = {}
        self._called: dict[str, str] = {}
        self._unplaced = 0
        self._subnets: dict[Prefix, set[str]] | None = None

    def document(self) -> dict[str, Any]:
        """The document that was read."""
        for name, device in self._devices.items():
            _settle(device, self._kinds.get(name), self._families.get(name, set()))
        return {
            "format": FORMAT,
            "vlans": self._vlans,
            "devices": self._devices,
            "hosts": self._hosts,
            "cables": self._cables,
        }

    def read(self, sheets: list[Sheet]) -> None:
        """Read every row of every table; problems are gathered."""
        tables = [table for sheet in sheets for table in tables_of(sheet)]
        if not tables:
            number = next((number for sheet in sheets for number, cells in sheet.rows if any(cells)), 1)
            told = f"no row names the columns of a table: a holder and an address at least, of {', '.join(COLUMNS)}"
            self.problems.append(Problem(number, 1, told))
            return
        for heads, place, _ in tables:
            for unknown in heads.unknown:
                self.notes.append(f"{row_text(place)}: the column {quoted(unknown)} is not read")
        rows: list[tuple[Place, Row]] = []
        for heads, _, lines in tables:
            if heads.kind == "addresses":
                rows += [pair for place, cells in lines for pair in self._rows(place, cells)]
        for heads, _, lines in tables:
            if heads.kind in ("VLANs", "ports"):
                for place, cells in lines:
                    (self._vlan_row if heads.kind == "VLANs" else self._port_row)(place, cells)
        self._addresses(_filled_down(rows, self.notes))
        for heads, _, lines in tables:
            if heads.kind == "cables":
                for place, cells in lines:
                    self._cable(place, cells)

    # Rows

    def _rows(self, place: Place, cells: list[str]) -> Iterator[tuple[Place, Row]]:
        """The rows of one line: one for each address of each family."""
        cell = cell_of(place, cells)
        host, holder = cell("host"), cell("holder")
        kind = KINDS.get(cell("kind").lower(), cell("kind"))
        plugged, switch = cell("plugged into"), cell("switch")
        if host:
            kind = "host"
            switch = switch or holder
        plugged = _port_of(plugged, switch)
        name, interface = self._name(place, host or holder), cell("interface")
        if not interface and plugged and "/" not in plugged and kind != "host" and "interface" not in place.columns:
            interface, plugged = plugged, ""
        vlan, about = self._vlan_text(cell("VLAN"), cell("VLAN name")), cell("description")
        common = Row(vlan=vlan, holder=name, interface=interface, plugged_into=plugged, kind=kind, description=about)
        four, six = _several(cell("address")), _several(cell("IPv6 address"))
        gateways = _several(cell("gateway")), _several(cell("IPv6 gateway"))
        length, length_6 = cell("prefix"), cell("IPv6 prefix")
        listed = [(address, length_6 or length if ":" in address else length) for address in four]
        listed += [(address, length_6 or ("" if "." in length else length)) for address in six]
        both = [hop for hops in gateways for hop in hops]
        for text, prefix in listed or [("", "")]:
            address = _WORDS.get(text.lower(), text)
            hops = [hop for hop in both if not address or _plain(address) or (":" in hop) == (":" in address)]
            yield place, common._replace(address=address, prefix=prefix, gateway=" ".join(hops))

    def _name(self, place: Place, text: str) -> str:
        """A name as a document takes it: what stands between its words is a dash."""
        if not text or NAME.fullmatch(text):
            return text
        made = re.sub(r"[^A-Za-z0-9._-]+", "-", text).strip("-._")[:63]
        if not NAME.fullmatch(made):
            return text  # the document's own reader says what a name is
        self._called[text] = made
        self.notes.append(f"{row_text(place)}: {quoted(text)} is called {made}")
        return made

    def _vlan_text(self, number: str, name: str) -> str:
        """A VLAN as one text: `crew (220)`, `220` or `crew`, of what one or two columns say."""
        if _NAMED_VLAN.fullmatch(number):
            return number
        found = re.fullmatch(r"(?:vlan[ -]?)?(\d{1,9})(?:[\s:,-]+(\S.*))?", number, re.IGNORECASE)
        if found and (name or found[2]):
            return f"{name or found[2]} ({found[1]})"
        return (found[1] if found else number) or name

    def _addresses(self, rows: list[tuple[Place, Row]]) -> None:
        for place, row in rows:
            self._vlan_id(place, row)
        hosts = _hosts_among([row for _, row in rows])
        for place, row in rows:
            if not row.holder and (row.address or row.interface):
                self._problem(place, "holder", "the row names no device")
            elif row.holder in hosts:
                self._host(place, row)
        for place, row in rows:
            if row.holder and row.holder not in hosts:
                self._interface(place, row)
        routers = {name for name, device in self._devices.items() if _routes_by_ports(device)}
        for place, row in rows:
            if row.holder in hosts:
                self._plug(place, row, routers)

    # What is wrong, and where

    def _problem(self, place: Place, column: str, told: str) -> None:
        sheet = f"sheet '{place.sheet}': " if place.sheet else ""
        self.problems.append(Problem(place.number, place.columns.get(column, 0) + 1, printable(sheet + told)))

    def _mark(self, path: Path, place: Place, column: str) -> None:
        at = place.columns.get(column, 0) + 1
        self.marks.setdefault(path, Mark(place.number, at, place.number, at))

    # VLANs

    def _vlan_id(self, place: Place, row: Row) -> None:
        named = _NAMED_VLAN.fullmatch(row.vlan)
        name, vlan = (named[1], named[2]) if named else ("", row.vlan) if row.vlan.isdigit() else (row.vlan, "")
        if named and name:
            name = self._name(place, name)
            other = self._vlans.setdefault(name, vlan)
            self._mark(("vlans", name), place, "VLAN")
            if other != vlan:
                self._problem(place, "VLAN", f"VLAN {quoted(name)} has the id {other} in a row above, and {vlan} here")
        elif vlan and int(vlan) != DEFAULT_VLAN and vlan not in self._vlans.values():
            self._vlans[f"vlan-{vlan}"] = vlan
            self._mark(("vlans", f"vlan-{vlan}"), place, "VLAN")

    def _vlan(self, place: Place, row: Row) -> str:
        """The VLAN of a row by name or id; empty where it has none."""
        named = _NAMED_VLAN.fullmatch(row.vlan)
        word = (self._name(place, named[1]) or named[2]) if named else row.vlan
        if word and not word.isdigit() and word not in self._vlans:
            told = f"VLAN {quoted(word)} has no id; write it like {word} (220), in one row at least"
            self._problem(place, "VLAN", told)
        return word

    def _vlan_row(self, place: Place, cells: list[str]) -> None:
        """A VLAN of a table of VLANs."""
        cell = cell_of(place, cells)
        text = self._vlan_text(cell("VLAN"), cell("VLAN name") or cell("holder"))
        if text:
            self._vlan_id(place, Row(vlan=text))

    # Devices and hosts

    def _address(self, place: Place, row: Row) -> str:
        """The address of a row with its prefix length; empty where it has none."""
        if _plain(row.address):
            return row.address
        address, slash, length = row.address.partition("/")
        length = length if slash else row.prefix.lstrip("/")
        if "." in length:
            bits = mask_length(length)
            if bits is None:
                wrong = quoted(row.prefix or length)
                self._problem(place, "prefix", f"{wrong} is not a mask; write 255.255.255.0, or /24")
                return ""
            length = str(bits)
        if not length:
            write = f"{address}/{24 if ':' not in address else 64}"
            self._problem(place, "address", f"{quoted(address)} lacks its mask or prefix length; write {write}")
            return ""
        return f"{address}/{length}"

    def _common(self, place: Place, row: Row, path: Path, into: dict[str, Any]) -> None:
        """The address and the description of a row."""
        address = self._address(place, row)
        self._mark(path, place, "host" if "host" in place.columns else "holder")
        self._mark((*path, "address"), place, "address")
        if address:
            into.setdefault("address", []).append(address)
            column = "IPv6 address" if ":" in address and "IPv6 address" in place.columns else "address"
            self._mark((*path, "address", len(into["address"]) - 1), place, column)
        if row.description:
            into.setdefault("description", row.description)

    def _gateways(self, place: Place, row: Row, path: Path, into: dict[str, Any]) -> None:
        for hop in row.gateway.split():
            if hop not in into.setdefault("gateway", []):
                into["gateway"].append(hop)
                self._mark((*path, "gateway", len(into["gateway"]) - 1), place, "gateway")

    def _host(self, place: Place, row: Row) -> None:
        path: Path = ("hosts", row.holder)
        at = row.plugged_into
        if "/" not in at and row.holder not in self._hosts:
            self._unplaced += 1
            at = f"{NOWHERE}/p{self._unplaced}"
            self.notes.append(
                f"{row_text(place)}: host {row.holder} is written at {at}: nothing says where it is plugged in"
            )
        host = self._hosts.setdefault(row.holder, {"at": at})
        self._mark((*path, "at"), place, "plugged into")
        if "/" in row.plugged_into and host["at"] != row.plugged_into:
            told = f"{quoted(row.holder)} is at {host['at']} in a row above; it has one place"
            self._problem(place, "plugged into", told)
        self._common(place, row, path, host)
        self._gateways(place, row, path, host)

    def _interface(self, place: Place, row: Row) -> None:
        device = self._device(place, row.holder)
        if row.kind in KINDS.values():
            self._kinds.setdefault(row.holder, row.kind)
        elif row.kind:
            self._problem(place, "kind", f"{quoted(row.kind)} is no kind; there are: router, l3switch, switch and host")
        if not row.interface:
            if row.address:
                told = f"{quoted(row.holder)}: a host's port is written DEVICE/PORT; a device's row names its interface"
                self._problem(place, "plugged into", told)
            elif row.description:
                device.setdefault("description", row.description)
            return
        if row.address and not _plain(row.address):
            self._families.setdefault(row.holder, set()).add("ipv6" if ":" in row.address else "ipv4")
        name, sits_on, vlan = self._placed(place, row)
        path: Path = ("devices", row.holder, "interfaces", name)
        ports, interfaces = device.setdefault("ports", {}), device.setdefault("interfaces", {})
        if sits_on in ("", name) and not vlan:
            path = ("devices", row.holder, "ports", name)
            self._common(place, row, path, ports.setdefault(name, {}))
        else:
            section = interfaces.setdefault(name, {})
            self._common(place, row, path, section)
            if sits_on == LOOPBACK:
                section["loopback"] = "yes"
            elif "+" in sits_on:
                section["members"] = [member for member in sits_on.split("+") if member]
            elif sits_on:
                parent, _, word = sits_on.partition(" ")
                untagged = {"untagged": "yes"} if word == "untagged" else {}
                section.update({"parent": parent} | ({"tag": vlan} if vlan else {}) | untagged)
                self._mark((*path, "parent"), place, "plugged into")
                self._mark((*path, "tag"), place, "VLAN")
                ports.setdefault(parent, {})
            else:
                section["vlan"] = vlan
                self._mark((*path, "vlan"), place, "VLAN")
        self._gateways(place, row, ("devices", row.holder), device)

    def _placed(self, place: Place, row: Row) -> tuple[str, str, str]:
        """An interface's name, what it sits on and its VLAN; where the row does not say it, by the name."""
        name = row.interface
        if not PORT_NAME.fullmatch(name):
            made = re.sub(r"[^A-Za-z0-9._/-]+", "-", name).strip("-._/")
            if PORT_NAME.fullmatch(made):
                self.notes.append(f"{row_text(place)}: {row.holder}'s {quoted(name)} is called {made}")
                name = made
        vlan = self._vlan(place, row)
        if row.plugged_into:
            return name, row.plugged_into, vlan
        as_vlan, sub = _VLAN_INTERFACE.fullmatch(row.interface), _SUBINTERFACE.fullmatch(name)
        taken = ""
        if _LOOPBACK.fullmatch(row.interface) and not vlan:
            taken, sits_on = "a loopback", LOOPBACK
        elif as_vlan and (not vlan or vlan == as_vlan[1]):
            vlan, sits_on = vlan or as_vlan[1], ""
            taken = f"the VLAN interface of {vlan}"
        elif sub and "plugged into" not in place.columns:
            vlan, sits_on = vlan or sub[2], sub[1]
            taken = f"the subinterface of {sub[1]} with the tag {vlan}"
        else:
            sits_on = ""
        if taken:
            self.notes.append(f"{row_text(place)}: {row.holder}/{name} is taken to be {taken}, by its name")
        if vlan.isdigit():
            self._vlan_id(place, Row(vlan=vlan))
        return name, sits_on, vlan

    def _device(self, place: Place, name: str) -> dict[str, Any]:
        self._mark(("devices", name), place, "holder")
        return self._devices.setdefault(name, {"kind": ""})

    def _plug(self, place: Place, row: Row, routers: set[str]) -> None:
        """Set the port that a host is plugged into to its VLAN; not one that has an address, or is a router's."""
        host = self._hosts[row.holder]
        name, _, port = host["at"].partition("/")
        vlan = self._vlan(place, row)
        if not vlan and (vlan := self._vlan_by_subnet(host.get("address", ()))):
            told = f"host {row.holder} is taken to be in VLAN {vlan}, whose subnet it is in"
            self.notes.append(f"{row_text(place)}: {told}")
        device = self._device(place, name)
        if name in routers:
            return
        ports = device.setdefault("ports", {})
        members = [member for part in device.get("interfaces", {}).values() for member in part.get("members", ())]
        if "address" not in ports.get(port, {}) and port not in members and "access" not in ports.get(port, {}):
            ports[port] = {"access": vlan} if vlan else {} if name == NOWHERE else {"trunk": [], "untagged": "none"}
            self._mark(("devices", name, "ports", port, "access"), place, "VLAN")

    def _vlan_by_subnet(self, addresses: Iterable[str]) -> str:
        """The VLAN whose gateway an address is beside; empty where there is none, or more than one."""
        if self._subnets is None:
            self._subnets = {}
            for device in self._devices.values():
                for part in device.get("interfaces", {}).values():
                    for prefix in _prefixes(part.get("address", ())) if "vlan" in part or "tag" in part else ():
                        self._subnets.setdefault(prefix, set()).add(part.get("vlan") or part["tag"])
        beside = {vlan for own in _prefixes(addresses) for vlan in self._subnets.get(own, ())}
        vlan = beside.pop() if len(beside) == 1 else ""
        return next((name for name, number in self._vlans.items() if number == vlan), vlan)

    def _port_row(self, place: Place, cells: list[str]) -> None:
        """A port of a table of switches' ports: the VLAN that it is in."""
        cell = cell_of(place, cells)
        name, port = self._name(place, cell("switch") or cell("holder")), cell("plugged into")
        text = self._vlan_text(cell("VLAN"), cell("VLAN name"))
        if not name or not port:
            return
        self._vlan_id(place, Row(vlan=text))
        vlan = self._vlan(place, Row(vlan=text))
        ports = self._device(place, name).setdefault("ports", {})
        section = ports.setdefault(port.removeprefix(f"{name}/"), {})
        if vlan:
            section["access"] = vlan
        if cell("description"):
            section["description"] = cell("description")

    def _cable(self, place: Place, cells: list[str]) -> None:
        """A cable of a table of cables; one with a host's end says where that is plugged in."""
        cell = cell_of(place, cells)
        ends = [
            self._end(cell(end) or cell(port), cell(device))
            for end, device, port in (("end", "end device", "end port"), ("other end", "other device", "other port"))
        ]
        if not any(ends):
            return
        for end, column in zip(ends, ("end", "other end"), strict=True):
            if not end:
                self._problem(place, column, "the cable has one end; write DEVICE/PORT at both")
                return
        for own, far in (ends, ends[::-1]):
            name = own.partition("/")[0]
            if name in self._hosts and "/" in far:
                before = self._hosts[name]["at"]
                if before.startswith(f"{NOWHERE}/"):
                    self._move(name, far)
                return
        self._cables.append(f"{ends[0]} ~ {ends[1]}")
        self.marks[("cables", len(self._cables) - 1)] = Mark(place.number, 1, place.number, 1)

    def _end(self, text: str, device: str) -> str:
        """An end of a cable by the names that its parts are called here."""
        if not device and text in {*self._called, *self._hosts}:
            return self._called.get(text, text)
        if not device and (
            named := next((name for name in self._called if text.startswith((f"{name}/", f"{name} "))), "")
        ):
            device, text = named, text[len(named) + 1 :]
        return _port_of(text, self._called.get(device, device))

    def _move(self, name: str, at: str) -> None:
        """Plug a host in where a cable says."""
        host = self._hosts[name]
        device, _, port = host["at"].partition("/")
        setting = self._devices[device]["ports"].pop(port, {})
        self.notes = [note for note in self.notes if f"host {name} is written at {host['at']}:" not in note]
        host["at"] = at
        if not self._devices[device]["ports"]:
            del self._devices[device]
        there, _, port = at.partition("/")
        new = self._devices.setdefault(there, {"kind": ""})
        if not _routes_by_ports(new):
            new.setdefault("ports", {}).setdefault(port, setting)


def _several(cell: str) -> list[str]:
    return [word for word in re.split(r"[\s,;]+", cell) if word]


def _plain(address: str) -> bool:
    """Whether an address is none that has a prefix: nothing, or a word for how it is had."""
    return address in ("", *_WORDS.values())


def _prefixes(addresses: Iterable[str]) -> set[Prefix]:
    """The subnets of addresses, as far as they are addresses."""
    found: set[Prefix] = set()
    for address in addresses:
        try:
            found.add(parse_interface_address(address).prefix)
        except AddressError:
            continue
    return found


def _port_of(text: str, switch: str) -> str:
    """A place as DEVICE/PORT, of a cell and perhaps one that names the device."""
    if switch and text:
        return text if text.startswith(f"{switch}/") else f"{switch}/{text}"
    found = re.fullmatch(r"([A-Za-z0-9][\w.-]*)(?:\s*:\s*|\s+(?:port\s+)?)([\w./-]+)", text)
    return f"{found[1]}/{found[2]}" if found and found[2] not in ("tagged", "untagged") else text


def _filled_down(rows: list[tuple[Place, Row]], notes: list[str]) -> list[tuple[Place, Row]]:
    """Rows whose holder is empty, since its cell spans several, with the holder of the row above."""
    made: list[tuple[Place, Row]] = []
    for place, row in rows:
        above = made[-1][1] if made else Row()
        if not row.holder and row.interface and above.holder and above.interface:
            row = row._replace(holder=above.holder, kind=above.kind)
            notes.append(f"{row_text(place)}: {row.interface} is taken to be one of {row.holder}, as in the row above")
        made.append((place, row))
    return made


def _hosts_among(rows: list[Row]) -> set[str]:
    """The holders that are hosts: a row says so, or it is plugged into a device's port, or it has a network card and a
    gateway and nothing else."""
    interfaces: dict[str, set[str]] = {}
    kinds: dict[str, set[str]] = {}
    for row in rows:
        interfaces.setdefault(row.holder, set()).add(row.interface)
        kinds.setdefault(row.holder, set()).add(row.kind)

    def is_host(row: Row) -> bool:
        if row.kind or row.at_a_port:
            return row.kind in ("", "host")
        card = _CARD.fullmatch(row.interface) is not None and not (row.plugged_into and "/" not in row.plugged_into)
        alone = interfaces[row.holder] == {row.interface} and kinds[row.holder] == {""}
        return card and alone and (bool(row.gateway) or row.interface.lower() in ("nic", "network card", "card"))

    return {row.holder for row in rows if row.holder and is_host(row)}


def _routes_by_ports(device: Mapping[str, Any]) -> bool:
    """Whether a device is a router by its rows: it has subinterfaces or routed ports, and no VLAN interface."""
    interfaces = device.get("interfaces", {}).values()
    own = any("address" in port for port in device.get("ports", {}).values())
    own = own or any("vlan" not in part for part in interfaces)
    return own and not any("vlan" in part for part in interfaces)


def _settle(device: dict[str, Any], kind: str | None, families: set[str]) -> None:
    """Say of a device which kind it is: what the sheet says, what its interfaces can only be, or what they are enough
    for."""
    interfaces = device.get("interfaces", {})
    vlans = [part for part in interfaces.values() if "vlan" in part]
    parents = {part["parent"] for part in interfaces.values() if "parent" in part}
    routed = parents or any("address" in port for port in device.get("ports", {}).values())
    routed = routed or any("members" in part or "loopback" in part for part in interfaces.values())
    if kind is None:
        many = len(vlans) > 1 or (vlans and routed)
        kind = "router" if _routes_by_ports(device) else "l3switch" if many else "switch"
    device["kind"] = kind
    if kind == "l3switch":
        device["routing"] = sorted(families)
        for parent in parents:
            if "address" not in device["ports"].get(parent, {"address": ""}):
                device["ports"][parent]["routed"] = "yes"
