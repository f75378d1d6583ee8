"""Hosts declared in bulk, in a network and in a brief."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

import archipelago
from archipelago import DocumentError
from archipelago.files.brief import brief_from
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.model.finding import REMOVE, Edit

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


# Ranges of everything else

FLOORS = """\
format: archipelago-network/1
vlans: {"v{210..249}": "{210..249}", manage: 500}
devices:
  core:
    kind: l3switch
    routing: ipv4
    ports: {"d{1..4}": {trunk: all, untagged: none}}
    interfaces:
      "v{210..249}": {vlan: "{210..249}", address: "10.44.{10..49}.1/24"}
      manage: {vlan: manage, address: 10.44.9.1/24}
  "floor-{1..4}":  # one for each floor
    kind: switch
    description: "floor {1..4}"
    ports:
      "1/0/{1..5}": {access: "v{210..214}"}
      "1/0/48": {trunk: ["v{210..214}", manage], untagged: none}
    interfaces: {manage: {vlan: manage, address: "10.44.9.{2..5}/24"}}
    gateway: 10.44.9.1
hosts:
  "desk-{north,south}-{1..4}":
    at: "floor-{1..4}/1/0/{1,2}"
    address: "10.44.{10,11}.{21..24}/24"
    gateway: "10.44.{10,11}.1"
cables: "core/d{1..4} ~ floor-{1..4}/1/0/48"
"""


def read(text):
    return network_from(parse(text.encode(), "floors"))


def test_what_is_written_of_a_range_walks_along_with_its_names():
    network = read(FLOORS)
    assert len(network.vlans) == 41 and network.vlans["v230"] == 230
    assert str(network.devices["core"].interfaces["v230"].addresses[0]) == "10.44.30.1/24"
    third = network.devices["floor-3"]
    assert (third.description, third.ports["1/0/4"].access) == ("floor 3", 213)
    assert third.ports["1/0/48"].trunk == (210, 211, 212, 213, 214, 500)  # walks with nothing: all of them
    assert str(third.interfaces["manage"].addresses[0]) == "10.44.9.4/24"
    assert [str(cable) for cable in network.cables][1] == "core/d2 ~ floor-2/1/0/48"
    assert [str(network.hosts[name].at) for name in ("desk-north-2", "desk-south-2")] == [
        "floor-2/1/0/1",
        "floor-2/1/0/2",
    ]
    south = network.hosts["desk-south-3"]
    assert (str(south.addresses[0]), str(south.gateway[0])) == ("10.44.11.23/24", "10.44.11.1")
    assert read(archipelago.network_text(network)) == network


def test_a_later_entry_adds_to_a_device_of_a_range():
    later = FLOORS.replace("hosts:\n", "  floor-2: {ports: {1/0/3: {off: true}}, gateway: 10.44.9.9}\nhosts:\n")
    first, second = (read(later).devices[name] for name in ("floor-1", "floor-2"))
    assert second.ports["1/0/3"].off and second.ports["1/0/3"].access == 212 and len(second.ports) == 6
    assert (str(second.gateway[0]), str(first.gateway[0])) == ("10.44.9.9", "10.44.9.1")


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("core/d{1..4} ~", "core/d{1..3} ~", "'core/d{1..3}' is 3 and 'floor-{1..4}/1/0/48' is 4; a range of cables"),
        ('"v{210..214}"}', '"v{210..212}"}', "it stands for 3 texts, and it walks along with a range of as many"),
        ('"10.44.9.{2..5}/24"', '"10.44.9.{2..9}/24"', "it stands for 8 texts, and"),
        ('floor-{1..4}":', 'floor-{4..1}":', "runs backwards"),
        ("desk-{north,south}-{1..4}", "desk-{north}-{1..4}", "holds a brace that is no range"),
        ('"v{210..249}": "{210..249}"', '"v{210..249}": "{4080..4119}"', "a whole number from 1 to 4094 is expected"),
        ('floor-{1..4}":', 'floor-{1..4096}-{1..4}":', "at most 4,096 are read"),
    ],
)
def test_what_a_range_cannot_be_is_said(old, new, said):
    text = FLOORS.replace(old, new)
    assert text != FLOORS
    with pytest.raises(DocumentError) as raised:
        read(text)
    assert said in str(raised.value) and all(problem.line for problem in raised.value.problems)


def test_ranges_of_ranges_are_bounded():
    text = FLOORS.replace("1/0/{1..5}", "1/0/{1..4000}").replace('floor-{1..4}":', 'floor-{1..4000}":')
    with pytest.raises(DocumentError, match="more than 2,000,000 parts"):
        read(text)


def test_what_all_of_a_range_are_to_have_is_changed_in_the_range():
    edits = [Edit(("devices", f"floor-{number}", "gateway"), "10.44.9.5") for number in range(1, 5)]
    assert archipelago.amend(FLOORS, edits) == FLOORS.replace("gateway: 10.44.9.1\n", "gateway: 10.44.9.5\n")
    some = archipelago.amend(FLOORS, edits[1:2])
    assert some == FLOORS.replace("hosts:\n", "  floor-2: {gateway: 10.44.9.5}\nhosts:\n")


def test_the_mends_of_a_range_are_one_line(command, tmp_path):
    path = tmp_path / "floors.yaml"
    path.write_text(FLOORS.replace("gateway: 10.44.9.1\n", "gateway: 10.44.9.77\n"))
    said = command("audit", path).stdout
    assert said.startswith("4 errors\n\n1 to 4. ERROR gateway-wrong at floor-1, floor-2, floor-3 and 1 more")
    done = command("mend", path, "-o", tmp_path / "new.yaml")
    assert done.returncode == 0 and (tmp_path / "new.yaml").read_text() == FLOORS


CABLED = [("cables", number) for number in range(4)]
PLACES = [
    ("devices", "floor-3", "gateway"),
    ("devices", "floor-1", "ports", "1/0/2", "access"),
    ("devices", "floor-4", "ports", "1/0/48", "trunk", "+"),
    ("devices", "core", "interfaces", "v222", "address"),
    ("devices", "core", "ports", "d2", "off"),
    ("hosts", "desk-north-2", "gateway"),
    ("hosts", "desk-south-4", "off"),
]
VALUES = {"gateway": "10.44.9.8", "access": "v220", "+": "v230", "address": "10.45.0.1/24", "off": "true"}


@given(st.sets(st.sampled_from(PLACES)), st.sets(st.sampled_from(CABLED)), st.sets(st.sampled_from(CABLED)))
def test_an_edit_of_a_range_means_what_it_means_written_out(places, gone, off):
    """The law: edits of a document with ranges make the network that they make of the same without."""
    network = read(FLOORS)
    plain = archipelago.network_text(network)
    edits = [Edit(path, VALUES[path[-1]]) for path in places]
    edits += [Edit(path, REMOVE) for path in gone]
    edits += [Edit(path, {"ends": str(network.cables[path[1]]), "off": "true"}) for path in off - gone]
    made, wanted = (read(archipelago.amend(text, edits)) for text in (FLOORS, plain))
    assert (made.devices, made.hosts, made.vlans) == (wanted.devices, wanted.hosts, wanted.vlans)
    assert set(made.cables) == set(wanted.cables) and len(made.cables) == 4 - len(gone)
