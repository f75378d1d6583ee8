"""Hosts declared in bulk, in a network and in a brief."""

from __future__ import annotations

import pytest

import archipelago
from archipelago import DocumentError
from archipelago.files.brief import brief_from
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.model.finding import Edit

START = """format: archipelago-network/1
vlans: {crew: 220}
devices:
  hall: {kind: router, ports: {p9: {address: 10.44.0.1/23}}}
  quay-1: {kind: switch, ports: {p60: {access: crew}}}
  quay-2: {kind: switch}
hosts:
"""


def network(hosts):
    return network_from(parse((START + hosts).encode(), "bulk"))


def test_names_places_and_addresses_run_together():
    found = network("  crew-{1..180}: {at: quay-{1..2}/p{1..90}, address: 10.44.0.10/23, gateway: 10.44.0.1}\n".replace(
        "quay-{1..2}/p{1..90}", '"quay-{1..2}/p{100..189}"'))  # fmt: skip
    assert len(found.hosts) == 180
    first, last = found.hosts["crew-1"], found.hosts["crew-180"]
    assert (str(first.at), str(first.addresses[0])) == ("quay-1/p100", "10.44.0.10/23")
    assert (str(last.at), str(last.addresses[0])) == ("quay-2/p189", "10.44.0.189/23")
    assert {str(host.gateway[0]) for host in found.hosts.values()} == {"10.44.0.1"}
    again = network_from(parse(archipelago.network_text(found).encode(), "again"))
    assert again == found


def test_zeros_are_kept_and_an_entry_of_its_own_says_otherwise():
    found = network(
        '  cam-{01..12}: {at: "quay-1/p{1..12}", address: 10.44.0.10/23, gateway: 10.44.0.1}\n'
        "  cam-07: {gateway: 10.44.0.2}\n  cam-08: {address: 10.44.1.8/23, off: true}\n"
    )
    assert sorted(found.hosts) == [f"cam-{number:02}" for number in range(1, 13)]
    assert str(found.hosts["cam-07"].gateway[0]) == "10.44.0.2" and str(found.hosts["cam-07"].at) == "quay-1/p7"
    assert str(found.hosts["cam-07"].addresses[0]) == "10.44.0.16/23"
    assert str(found.hosts["cam-08"].addresses[0]) == "10.44.1.8/23" and found.hosts["cam-08"].off
    assert str(found.hosts["cam-09"].addresses[0]) == "10.44.0.18/23"


def test_a_mend_of_one_host_of_a_bulk_is_an_entry_of_its_own():
    text = START + '  cam-{1..3}: {at: "quay-1/p{1..3}", address: 10.44.0.10/23}\n'
    mended = archipelago.amend(text, [Edit(("hosts", "cam-2", "gateway"), "10.44.0.1")])
    hosts = network_from(parse(mended.encode(), "mended")).hosts
    assert [len(hosts[name].gateway) for name in ("cam-1", "cam-2", "cam-3")] == [0, 1, 0]
    assert hosts["cam-2"].addresses[0].value == hosts["cam-1"].addresses[0].value + 1


def test_ports_in_bulk():
    text = START.replace(
        "quay-2: {kind: switch}", "quay-2: {kind: switch, ports: {'p{1..24}': {access: crew}, p7: {off: true}}}"
    )
    ports = network_from(parse((text + "  {}\n").encode(), "ports")).devices["quay-2"].ports
    assert len(ports) == 24 and {port.access for port in ports.values()} == {220}
    assert [name for name, port in ports.items() if port.off] == ["p7"]
    with pytest.raises(DocumentError, match="runs backwards"):
        network_from(parse((text.replace("{1..24}", "{24..1}") + "  {}\n").encode(), "ports"))


def test_in_a_brief_the_switches_take_turns():
    brief = brief_from(
        parse(
            b"""format: archipelago-brief/1
space: 10.44.0.0/16
vlans: {crew: {id: 220, hosts: 30}}
devices: {landing: {kind: router}, quay-1: {kind: switch, ports: 24}, quay-2: {kind: switch, ports: 24}}
gateways: [{for: crew, at: landing/p1}]
hosts: {"crew-{1..30}": {vlan: crew, at: "quay-{1..2}"}}
cables: [landing/p1 ~ quay-1/p24, quay-1/p23 ~ quay-2/p24]
""",
            "brief",
        )
    )
    made = archipelago.design(brief).network
    assert [sum(host.at.device == name for host in made.hosts.values()) for name in ("quay-1", "quay-2")] == [15, 15]
    found = archipelago.matrix(made)
    assert found.reached == found.pairs == 870


@pytest.mark.parametrize(
    ("entry", "message"),
    [
        ("a-{5..1}: {at: quay-1}", "runs backwards; write {1..5}"),
        ("a-{1-5}: {at: quay-1}", "a range is written like {1..24}"),
        ('a-{1..9}: {at: "quay-1/p{1..4}"}', "4 ports for the 9 hosts"),
        ("a-{1..9}: {at: quay-1/p1, adress: 10.44.0.2/23}", "did you mean 'address'?"),
        ('a-{1..9}: {at: "quay-1/p{1..9}", address: 10.44.0.250/24}', "do not fit into 10.44.0.0/24"),
        ("a-{1..3000000}: {at: quay-1/p1}", "ports for the 3,000,000 hosts"),
        ('a-{1..2}: {at: "quay-1/p{1..2}"}\n  a-{2..3}: {at: "quay-2/p{1..2}"}', "is in another bulk too"),
        ('a-{1..2}: {at: "quay-1/p{60..61}"}\n  b: {at: quay-1/p61}', "is used twice"),
        ("-a-{1..2}: {at: quay-1/p1}", "a name starts with a letter or a digit"),
    ],
)
def test_wrong_bulks_are_told(entry, message):
    with pytest.raises(DocumentError) as raised:
        network(f"  {entry}\n")
    assert (message in str(raised.value) and "bulk:8:" in str(raised.value)) or "bulk:9:" in str(raised.value)
