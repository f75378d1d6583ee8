"""The address list that people keep in a spreadsheet, in and out; and standard input and output."""

from __future__ import annotations

import re
import subprocess
import sys
from random import Random

import pytest

import archipelago
from archipelago import export, read_address_list, read_network
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
    with pytest.raises(archipelago.DocumentError, match="no column holder and no column address; known heads: address"):
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
