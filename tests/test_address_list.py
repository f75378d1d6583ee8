"""The address list that people keep in a spreadsheet, in and out; and standard input and output."""

from __future__ import annotations

import re
import subprocess
import sys
from random import Random

import pytest
from hypothesis import given
from hypothesis import strategies as st

import archipelago
from archipelago import export, read_address_list, read_network
from archipelago.files.address_list import address_list_of
from archipelago.model.ends import WORDS
from archipelago.model.values import NAME
from briefs import any_brief
from makers import scrambled

ROWS = """\
Host;IP Address;Subnet mask;Default gateway;VLAN;at;interface
landing;10.44.0.1;255.255.255.0;;crew (120);p1;p1.120
landing;10.44.1.1;/24;;140;p1;p1.140
landing;203.0.113.2;30;;;p4;p4
winch;10.44.0.2;255.255.255.0;10.44.0.1;crew;slip/p1;
gull;10.44.1.2/24;;10.44.1.1;140;slip/p2;
"""


def test_a_table_of_any_order_and_any_separator_becomes_a_network():
    network = read_address_list(ROWS)
    assert network.vlans == {"crew": 120, "vlan-140": 140}
    landing, slip = network.devices["landing"], network.devices["slip"]
    assert landing.kind == "router" and slip.kind == "switch"
    assert landing.interfaces["p1.120"].tag == 120 and str(landing.ports["p4"].addresses[0]) == "203.0.113.2/30"
    assert [slip.ports[port].access for port in ("p1", "p2")] == [120, 140]
    assert str(network.hosts["gull"].addresses[0]) == "10.44.1.2/24"
    for other in (",", "\t"):
        assert read_address_list(ROWS.replace(";", other)) == network


@pytest.mark.parametrize(
    ("row", "told"),
    [
        ("winch;10.44.0.2;255.0.255.0;;crew (120);slip/p1;", "2:3: '255.0.255.0' is not a mask"),
        (
            "winch;10.44.0.2;;;crew (120);slip/p1;",
            "2:2: '10.44.0.2' lacks its mask or prefix length; write 10.44.0.2/24",
        ),
        ("winch;10.44.0.2;24;;crew;slip/p1;", "2:5: VLAN 'crew' has no id; write it like crew (220)"),
        ("winch;10.44.0.300;24;;crew (120);slip/p1;", "2:2: '10.44.0.300' is not an address"),
        ("winch;10.44.0.2;24;nowhere;crew (120);slip/p1;", "2:4: 'nowhere' is not an address"),
        ("winch;10.44.0.2;24;;crew (9999);slip/p1;", "2:5: '9999' is not a VLAN id"),
        ("winch;10.44.0.2;24;;crew (120);p1;", "2:6: 'winch': a host's port is written DEVICE/PORT"),
        (";10.44.0.2;24;;crew (120);slip/p1;", "2:1: the row names no device"),
    ],
)
def test_what_is_wrong_is_told_by_row_and_column(row, told):
    with pytest.raises(archipelago.DocumentError) as raised:
        read_address_list(f"{ROWS.splitlines()[0]}\n{row}\n")
    assert told in str(raised.value)


def test_heads_that_are_not_there_are_told():
    with pytest.raises(
        archipelago.DocumentError, match="no row names the columns of a table: a holder and an address at least"
    ):
        read_address_list("what,where\nwinch,quay\n")
    with pytest.raises(archipelago.DocumentError):
        read_address_list("\n")


@pytest.mark.parametrize("seed", range(200))
def test_a_network_s_table_goes_out_and_in_unchanged(seed):
    network = scrambled(Random(60_000 + seed), anything=seed % 2 == 0)
    if network is None:
        pytest.skip("this seed makes nothing to ask about")
    table = export(network, "csv")
    again = read_address_list(table)
    assert export(again, "csv") == table
    assert export(read_address_list(export(network, "markdown")), "csv") == table


def test_the_verbs_and_the_demo(command, plain_bay, tmp_path):
    printed = command("view", plain_bay / "network.yaml", "--table", "csv").stdout
    (tmp_path / "table.csv").write_text(printed)
    done = command("import", tmp_path / "table.csv", "-o", tmp_path / "in.yaml")
    assert done.returncode == 0 and done.stdout.startswith("imported: 6 devices, 9 VLANs, 18 hosts")
    assert command("view", tmp_path / "in.yaml", "--table", "csv").stdout == printed
    command("export", plain_bay / "network.yaml", "--as", "markdown", "-o", tmp_path / "table.md")
    assert export(read_address_list(tmp_path / "table.md"), "csv") == printed
    network = read_network(plain_bay / "network.yaml")
    assert {host: network.hosts[host].addresses for host in network.hosts} == {
        name: host.addresses for name, host in read_network(tmp_path / "in.yaml").hosts.items()
    }


def test_a_table_becomes_a_brief_that_designs_the_same_addresses(command, plain_bay, tmp_path):
    (tmp_path / "table.csv").write_text(command("view", plain_bay / "network.yaml", "--table", "csv").stdout)
    done = command("import", tmp_path / "table.csv", "--brief", "-o", tmp_path / "brief.yaml")
    assert done.returncode == 0 and "and no space beyond its subnets" in done.stdout
    text = (tmp_path / "brief.yaml").read_text()
    assert "  landing: {kind: router}\n" in text
    refused = command("design", tmp_path / "brief.yaml")
    assert refused.returncode == 2 and "which no cable goes to" in refused.stderr
    demo = (plain_bay / "brief.yaml").read_text()
    space = re.sub("(?m)^space: .*$", "space: [10.44.0.0/20, 2001:db8:44::/48]", text)
    (tmp_path / "brief.yaml").write_text(space + demo[demo.index("cables:") : demo.index("expect:")])
    assert command("design", tmp_path / "brief.yaml", "-o", tmp_path / "again.yaml").returncode == 0
    again, network = read_network(tmp_path / "again.yaml"), read_network(plain_bay / "network.yaml")
    assert {name: (host.at, host.addresses, host.gateway) for name, host in again.hosts.items()} == {
        name: (host.at, host.addresses, host.gateway) for name, host in network.hosts.items()
    }


@pytest.mark.parametrize("seed", range(60))
def test_a_brief_is_written_and_read_back_equal(seed):
    brief = archipelago.read_brief(any_brief(Random(seed)))
    assert archipelago.read_brief(archipelago.brief_text(brief)) == brief
    try:
        network = archipelago.design(brief).network
    except archipelago.DesignError:
        return
    needs = archipelago.needs_of(network)
    assert archipelago.read_brief(archipelago.brief_text(needs)) == needs
    for host in network.hosts.values():
        own = needs.vlans[needs_vlan(needs, host.name)].gateway
        assert {hop.address for hop in host.gateway} <= set(own)


def needs_vlan(needs, host):
    return next(name for name, need in needs.vlans.items() if need.id == needs.hosts[host].vlan)


def test_standard_input_and_output(plain_bay):
    def run(*words, given):
        call = [sys.executable, "-m", "archipelago.cli.main", *words]
        return subprocess.run(call, input=given, capture_output=True, text=True, check=False)

    broken = (plain_bay / "broken.yaml").read_text()
    mended = run("mend", "-", "--notes", "-o", "-", given=broken)
    assert mended.returncode == 0 and "mends made" in mended.stderr
    assert run("audit", "-", given=mended.stdout).stdout.startswith("no findings")
    designed = run("design", "-", "-o", "-", given=(plain_bay / "brief.yaml").read_text())
    assert read_network(designed.stdout) == read_network(plain_bay / "network.yaml")


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("address: 10.44.0.1/255.255.255.0", "has a mask after the slash; write 10.44.0.1/24"),
        ("address: 10.44.0.1", "lacks its prefix length; write it like 10.44.0.1/24"),
        ('trunk: "110,120"', "is one text; write a list: [110, 120]"),
    ],
)
def test_what_people_write_first_is_told_exactly(text, told):
    vlans, ports = "vlans: {a: 110, b: 120}", f"{{p1: {{{text}}}}}"
    document = f"format: archipelago-network/1\n{vlans}\ndevices: {{s: {{kind: switch, ports: {ports}}}}}\n"
    with pytest.raises(archipelago.DocumentError) as raised:
        read_network(document)
    assert told in str(raised.value)


# Sheets as people have them

SHEET = """\
Tern Bay addressing,,,,,
,,,,,
Device,Interface,IP Address,Subnet Mask,Default Gateway,Notes
landing,1/0/1.110,10.44.0.1,255.255.255.0,N/A,to the quay
,1/0/1.120,10.44.1.1,255.255.255.0,N/A,
,1/0/2,203.0.113.2,255.255.255.252,,
quay-1,VLAN 120,10.44.1.11,255.255.255.0,10.44.1.1,=1+1
PC A,NIC,10.44.0.10,255.255.255.0,10.44.0.1,ticket desk
PC B,NIC,10.44.1.10,255.255.255.0,10.44.1.1,
PC C,NIC,10.44.1.12,255.255.255.0,10.44.1.1,
,,,,,
VLAN,Name,,,,
110,Ticket office,,,,
120,crew,,,,
130,yard,,,,
,,,,,
Cables,,,,,
End,End,,,,
landing/1/0/1,quay-1/p24,,,,
PC A,quay-1/p1,,,,
PC B/NIC,quay-1/p2,,,,
"""


def test_a_sheet_with_titles_merged_cells_and_more_tables():
    read = archipelago.read_sheet(SHEET)
    network = read.network
    assert network.vlans == {"Ticket-office": 110, "crew": 120, "yard": 130}
    landing, quay = network.devices["landing"], network.devices["quay-1"]
    assert (landing.kind, quay.kind) == ("router", "switch")
    assert landing.interfaces["1/0/1.120"].tag == 120 and landing.interfaces["1/0/1.110"].description == "to the quay"
    assert quay.interfaces["VLAN-120"].vlan == 120 and str(quay.gateway[0]) == "10.44.1.1"
    assert [quay.ports[port].access for port in ("p1", "p2")] == [110, 120]
    hosts = {name: str(host.at) for name, host in network.hosts.items()}
    assert hosts == {"PC-A": "quay-1/p1", "PC-B": "quay-1/p2", "PC-C": "unplaced/p3"}
    assert network.devices["unplaced"].ports["p3"].access == 120
    assert [str(cable) for cable in network.cables] == ["landing/1/0/1 ~ quay-1/p24"]
    said = "\n".join(read.notes)
    for told in (
        "row 8: 'PC A' is called PC-A",
        "row 5: 1/0/1.120 is taken to be one of landing, as in the row above",
        "row 4: landing/1/0/1.110 is taken to be the subinterface of 1/0/1 with the tag 110, by its name",
        "row 10: host PC-C is written at unplaced/p3: nothing says where it is plugged in",
        "row 10: host PC-C is taken to be in VLAN crew, whose subnet it is in",
    ):
        assert told in said
    assert "PC-A is written at" not in said


def test_columns_for_both_families_for_switches_and_their_ports():
    text = (
        "# Hosts\n\n| Host | Switch | Port | VLAN ID | VLAN name | IPv4 address | IPv4 mask | IPv4 gateway "
        "| IPv6 address | IPv6 gateway | Owner |\n|---|---|---|---|---|---|---|---|---|---|---|\n"
        "| kiosk | quay-1 | 1/0/1 | 110 | tickets | 10.44.0.10 | 255.255.255.0 | 10.44.0.1 "
        "| 2001:db8::a/64 | 2001:db8::1 | purser |\n| till | quay-1 | 1/0/2 | 110 | tickets | DHCP | | | | | |\n"
    )
    read = archipelago.read_sheet(text)
    kiosk, till = read.network.hosts["kiosk"], read.network.hosts["till"]
    assert [str(address) for address in kiosk.addresses] == ["10.44.0.10/24", "2001:db8::a/64"]
    assert [str(hop) for hop in kiosk.gateway] == ["10.44.0.1", "2001:db8::1"]
    assert till.dhcp and str(till.at) == "quay-1/1/0/2" and read.notes == ("row 3: the column 'Owner' is not read",)
    ports = archipelago.read_sheet("switch\tport\tvlan\tname\nquay-1\tp1\t110\ttickets\n").network
    assert ports.vlans == {"vlan-110": 110} and ports.devices["quay-1"].ports["p1"].access == 110


def test_a_workbook_with_merged_cells_and_a_sheet_of_cables(tmp_path):
    from openpyxl import Workbook

    book = Workbook()
    sheet = book.active
    sheet.title = "addresses"
    for row in (
        ["Tern Bay", None, None, None],
        ["device", "interface", "address", "prefix length"],
        ["landing", "p1", "10.44.0.1", 24],
        [None, "p2", "10.44.1.1", 24.0],
        ["winch", "NIC", "10.44.0.300", 24],
    ):
        sheet.append(row)
    sheet.merge_cells("A1:D1")
    sheet.merge_cells("A3:A4")
    book.create_sheet("cables").append(["from", "to"])
    book["cables"].append(["winch", "landing/p1"])
    book.save(tmp_path / "list.xlsx")
    with pytest.raises(archipelago.DocumentError, match=r"list.xlsx:5:3: '10.44.0.300"):
        archipelago.read_sheet(tmp_path / "list.xlsx")
    sheet["C5"] = "10.44.0.3"
    book.save(tmp_path / "list.xlsx")
    network = read_address_list(tmp_path / "list.xlsx")
    assert list(network.devices["landing"].ports) == ["p1", "p2"] and str(network.hosts["winch"].at) == "landing/p1"
    (tmp_path / "broken.xlsx").write_bytes((tmp_path / "list.xlsx").read_bytes()[:900])
    with pytest.raises(archipelago.DocumentError, match="this is no workbook that can be read"):
        archipelago.read_sheet(tmp_path / "broken.xlsx")


@pytest.mark.parametrize("format", ["csv", "tsv", "markdown", "xlsx"])
def test_no_cell_is_run_as_a_formula(format, command, tmp_path):
    text = "format: archipelago-network/1\nvlans: {crew: 120}\ndevices:\n  slip:\n    kind: switch\n"
    text += "    description: '=HYPERLINK(\"x\")'\n    ports: {p1: {access: crew}}\nhosts:\n"
    text += "  winch: {at: slip/p1, address: dhcp, description: '@1 | 2'}\n"
    (tmp_path / "n.yaml").write_text(text)
    done = command("export", tmp_path / "n.yaml", "--as", format, "-o", tmp_path / "out")
    assert done.returncode == 0 and "not in it" not in done.stdout, done.stdout
    assert command("import", tmp_path / "out", "-o", tmp_path / "again.yaml").returncode == 0
    assert read_network(tmp_path / "again.yaml") == read_network(tmp_path / "n.yaml")
    if format == "xlsx":
        from openpyxl import load_workbook

        cells = [cell for row in load_workbook((tmp_path / "out").open("rb"))["addresses"].iter_rows() for cell in row]
        assert all(cell.data_type != "f" for cell in cells)
    else:
        assert re.search(r"(^|[,\t|] ?)\"?[=+@-]", (tmp_path / "out").read_text(), re.MULTILINE) is None or (
            format == "markdown"
        )


@pytest.mark.parametrize("seed", range(100))
def test_what_a_list_holds_survives_every_writer(seed):
    network = scrambled(Random(61_000 + seed), anything=seed % 2 == 0)
    if network is None:
        pytest.skip("this seed makes nothing to ask about")
    made = {}
    for format in ("csv", "tsv", "markdown", "xlsx"):
        content = export(network, format)
        content = content if isinstance(content, bytes) else content.encode()
        made[format] = address_list_of(content, format).network
        again = made[format]
        assert {name: device.kind for name, device in again.devices.items() if name in network.devices} == {
            name: device.kind for name, device in network.devices.items()
        }
        assert set(again.vlans.values()) == set(network.vlans.values())
        for name, host in network.hosts.items():
            own = again.hosts[name]
            assert (own.at, own.addresses, own.dhcp, own.auto, own.description) == (
                *(host.at, host.addresses, host.dhcp, host.auto, host.description),
            )
        for name, device in network.devices.items():
            for label, interface in device.interfaces.items():
                if interface.addresses:
                    assert again.devices[name].interfaces[label].addresses == interface.addresses
    assert made["csv"] == made["tsv"] == made["markdown"]
    assert [str(cable) for cable in made["xlsx"].cables] == [str(cable) for cable in network.cables]


ODD = ["na", "tbd", "nic", "lo0", "vlan-7", "vlan7", "p1.5", "eth0", "end", "dhcp", "host", "unplaced", "switch", "1a"]
ODD += ["no", "false", "addresses", "gateway", "a", "b", "segment", "type", "port", "loopback", "untagged"]
NAMES = st.sampled_from(ODD) | st.from_regex(r"[A-Za-z0-9][A-Za-z0-9._-]{0,12}", fullmatch=True).filter(NAME.fullmatch)


@given(st.lists(NAMES.filter(lambda name: name not in WORDS), min_size=7, max_size=7, unique=True))
def test_every_name_comes_back_from_every_list(names):
    """A law: whatever a document takes as a name, words that sheets use for something else among them."""
    one, other, switch, router, host, port, gateway = names
    network = read_network(
        f"format: archipelago-network/1\nvlans: {{'{one}': 210, '{other}': 7}}\ndevices:\n"
        f"  '{switch}': {{kind: switch, ports: {{'{port}': {{access: '{one}'}}}},"
        f" interfaces: {{'{gateway}': {{vlan: '{other}', address: 10.44.1.5/24}}}}}}\n"
        f"  '{router}': {{kind: router, ports: {{'{port}': {{}}, '{gateway}': {{address: 10.44.3.1/24}}}},"
        f" interfaces: {{'{one}': {{parent: '{port}', tag: '{other}', address: 10.44.2.1/24}}}}}}\n"
        f"hosts: {{'{host}': {{at: '{switch}/{port}', address: [10.44.0.2/24, 2001:db8::2/64], description: n/a}}}}\n"
    )
    for form in ("csv", "tsv", "markdown", "xlsx"):
        made = export(network, form)
        again = address_list_of(made if isinstance(made, bytes) else made.encode(), form).network
        assert (again.vlans, again.devices, again.hosts) == (network.vlans, network.devices, network.hosts), form
