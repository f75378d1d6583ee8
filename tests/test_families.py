"""IPv4, IPv6 and both at once: told side by side, advertised addresses, one mistake in one family."""

from __future__ import annotations

import json
from random import Random

import pytest
from hypothesis import given, reject, settings
from hypothesis import strategies as st

import archipelago
from archipelago import amend, network_text, read_network
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.ends import first_address
from archipelago.knowledge.index import index_network
from archipelago.knowledge.known import know
from archipelago.knowledge.mac import interface_id, link_local
from archipelago.model.finding import Edit
from archipelago.simulation.events import WORDS, HostConfigured
from archipelago.simulation.reach import start
from makers import scrambled

TWO = """format: archipelago-network/1
vlans: {tickets: 210, crew: 220}
devices:
  landing:
    kind: router
    interfaces:
      p1.210: {parent: p1, tag: tickets, address: [10.44.0.1/26, 2001:db8:44:210::1/64]}
      p1.220: {parent: p1, tag: crew, address: [10.44.1.1/25, 2001:db8:44:220::1/64]}
  quay-1:
    kind: switch
    ports: {p1: {access: tickets}, p2: {access: crew}, p24: {trunk: [tickets, crew], untagged: none}}
hosts:
  kiosk-a: {at: quay-1/p1, address: [10.44.0.10/26, auto], gateway: 10.44.0.1}
  mess: {at: quay-1/p2, address: auto}
cables: [landing/p1 ~ quay-1/p24]
"""


def network(*edits):
    return network_from(parse(amend(TWO, edits).encode(), "two"))


def test_a_link_local_address_is_made_of_the_mac_address():
    # RFC 4291 appendix A: 34-56-78-9a-bc-de with the universal/local bit turned over
    assert interface_id(0x3456789ABCDE) == 0x365678FFFE9ABCDE
    assert str(link_local(0x3456789ABCDE)) == "fe80::3656:78ff:fe9a:bcde"
    node = know(network()).nodes["mess"]
    (nic,) = node.nics.values()
    assert nic.addresses[0].value & (1 << 64) - 1 == interface_id(nic.mac)
    macs = [one.mac for each in know(network()).nodes.values() for one in each.nics.values() if one.kind == "host"]
    assert len(set(macs)) == len(macs)


def test_hosts_take_prefix_and_gateway_from_their_router():
    answer = archipelago.reach(network(), "kiosk-a", "mess")
    assert answer.reached and answer.family == 6 and answer.address.startswith("2001:db8:44:220:")
    kinds = [WORDS[type(event)] for event in answer.events]
    assert kinds.index("solicits") < kinds.index("advertises") < kinds.index("configures") < kinds.index("sends")
    told = next(event for event in answer.events if isinstance(event, HostConfigured))
    assert told.node == "kiosk-a" and told.router == know(network()).nodes["landing"].nics["p1.210"].link_local
    found = archipelago.matrix(network())
    assert found.reached == found.pairs == 2 and archipelago.audit(network()) == ()
    assert network_text(network()).count("auto") == 2  # what was heard is not written down


@pytest.mark.parametrize(
    ("edit", "kind", "at"),
    [
        (Edit(("devices", "landing", "routing"), ["ipv4"]), "routing-off", "landing"),
        (
            Edit(("devices", "landing", "interfaces", "p1.220", "address"), "10.44.1.1/25"),
            "prefix-unadvertised",
            "landing",
        ),
        (Edit(("devices", "landing", "interfaces", "p1.220", "off"), "true"), "admin-down", "landing"),
        (Edit(("devices", "quay-1", "ports", "p24", "trunk"), ["tickets"]), "vlan-not-carried", "quay-1"),
        (Edit(("devices", "quay-1", "ports", "p2", "off"), "true"), "admin-down", "quay-1"),
    ],
)
def test_why_a_host_hears_no_router(edit, kind, at):
    wrong = network(edit)
    assert kind in {finding.kind for finding in archipelago.audit(wrong)}
    answer = archipelago.reach(wrong, "mess", "2001:db8:44:210::1")
    assert (answer.reached, answer.cause, answer.at) == (False, kind, at)
    assert archipelago.matrix(wrong).reached == 0


def test_a_written_gateway_stays_the_gateway():
    kept = network(Edit(("hosts", "mess", "gateway"), "2001:db8:44:220::1"))
    (hop,) = index_network(kept).network.hosts["mess"].gateway
    assert str(hop) == "2001:db8:44:220::1" and archipelago.reach(kept, "mess", "kiosk-a").reached


def test_without_its_router_a_host_has_no_address():
    ((part, found),) = archipelago.what_if(network(), ["landing"])
    assert part == "landing" and found.reached == 0
    alone = archipelago.matrix(network(), without=["landing"])
    assert {group.finding.kind for group in alone.groups} == {"admin-down"}


@pytest.mark.long
@given(seed=st.integers(0, 10**6))
@settings(max_examples=40)
def test_the_simulated_host_ends_up_with_what_the_arrays_assume(seed):
    found = scrambled(Random(seed))
    if found is None:
        reject()
    view = index_network(found)
    for host in found.hosts.values():
        if host.auto and first_address(view.knowledge.nodes[host.name], 6):
            node = view.knowledge.nodes[host.name]
            simulation = start(view, node, 6)
            (interface,) = simulation.station(host.name).interfaces.values()
            assert interface.nic.addresses == next(iter(node.nics.values())).addresses


def test_both_families_are_asked_and_where_they_differ_is_said(command, plain_bay):
    broken = plain_bay / "broken.yaml"
    done = command("reach", broken, "purser", "innkeeper")
    assert done.returncode == 0  # an answer for a pair is that of IPv4, where both have it
    assert done.stdout.startswith("REACHED in IPv4, NOT REACHED in IPv6: purser to innkeeper")
    assert "IPv6: mend:  switch IPv6 forwarding on at holm" in done.stdout
    told = json.loads(command("reach", broken, "purser", "innkeeper", "--json").stdout)
    assert told["reached"] and told["family"] == 4 and not told["other_family"]["reached"]
    assert told["other_family"]["cause"] == "routing-off" and told["other_family"]["events"] == []
    six = command("reach", broken, "purser", "innkeeper", "--family", "6")
    assert six.returncode == 1 and six.stdout.startswith("NOT REACHED")
    alike = command("reach", plain_bay / "network.yaml", "purser", "innkeeper").stdout
    assert "IPv4 and IPv6 alike" in alike and "IPv6 goes the same way" in alike
    steps = command("reach", plain_bay / "network.yaml", "lounge-1", "lamp", "--steps", "--family", "6").stdout
    for words in ("router solicitation", "router advertisement", "hop limit 64", "neighbour solicitation"):
        assert words in steps
    assert "TTL" not in steps


def test_matrix_tells_where_the_families_differ(command, plain_bay):
    done = command("matrix", plain_bay / "broken.yaml")
    assert "pairs reached in one of IPv4 and IPv6 and not in the other" in done.stdout
    assert "what cuts them off in IPv6 only" in done.stdout and "holm holds gateways" in done.stdout
    told = json.loads(command("matrix", plain_bay / "broken.yaml", "--json").stdout)
    network = read_network(plain_bay / "broken.yaml")
    four, six = (archipelago.matrix(network, version, causes=False) for version in (4, 6))
    differ = sum(a[2] != b[2] for a, b in zip(four.rows(), six.rows(), strict=True))
    assert told["differing"] == differ > 0 and told["ipv6"]["reached"] == six.reached
    assert "IPv4 and IPv6 alike" in command("matrix", plain_bay / "network.yaml").stdout


def test_one_table_and_one_design_for_both(command, plain_bay):
    carved = command("carve", "10.44.0.0/20", "2001:db8:44::/48", "tickets:210=45", "--by-vlan-id").stdout
    (row,) = [line for line in carved.splitlines() if line.startswith("tickets")]
    assert "10.44." in row and "2001:db8:44:210::/64" in row
    brief = archipelago.read_brief(plain_bay / "brief.yaml")
    made = archipelago.design(brief).network
    assert made.hosts["lounge-1"].auto and [held.version for held in made.hosts["lounge-1"].addresses] == [4]
    kept = archipelago.design(brief, made).network
    assert kept == made


def test_pandas_by_class_host_and_pair(plain_bay):
    found = archipelago.matrix(read_network(plain_bay / "broken.yaml"))
    by_class, by_host, by_pair = (archipelago.to_table(found, by) for by in ("class", "host", "pair"))
    assert by_class.shape == (len(found.between),) * 2 and sum(by_class.index.get_level_values("hosts")) == 18
    assert by_host.shape == (18, 18) and not by_host.loc["kiosk-a", "lamp"] and by_host.loc["purser", "innkeeper"]
    assert list(by_pair.columns) == ["source", "destination", "reached"] and by_pair["reached"].sum() == found.reached
    with pytest.raises(archipelago.QueryError, match="none of class, host and pair"):
        archipelago.to_table(found, "vlan")


def test_what_is_too_large_is_not_laid_out():
    hosts = '  a{1..120}x{1..200}: {at: "q-{1..12}/p{1..2000}", address: 10.44.0.10/16}\n'
    switches = "".join(f"  q-{number}: {{kind: switch}}\n" for number in range(1, 13))
    text = f"format: archipelago-network/1\ndevices:\n{switches}hosts:\n{hosts}"
    found = archipelago.matrix(network_from(parse(text.encode(), "large")), causes=False)
    assert found.pairs == 24_000 * 23_999 and found.reached == 12 * 2_000 * 1_999
    assert archipelago.to_table(found).shape == (12, 12)
    with pytest.raises(archipelago.QueryError, match="too many to lay out"):
        archipelago.to_table(found, "host")


def said(command, *words):
    done = command(*words)
    assert done.returncode == 0, done.stderr
    return done.stdout


@pytest.mark.long
def test_views_show_both_families(command, plain_bay, tmp_path):
    network = plain_bay / "network.yaml"
    landing = said(command, "view", network, "landing")
    local = str(know(read_network(network)).nodes["landing"].nics["p1.250"].link_local)
    assert local.startswith("fe80::") and local in landing and "2001:db8:44:4::1/64" in landing
    lounge = said(command, "view", network, "lounge-1")
    assert "advertised" in lounge and local in lounge and "1 interface with addresses, 1 up" in lounge
    sends = said(command, "view", network, "--host", "lounge-1")
    assert f"via {local} (default)" in sends and "via 10.44.0.1 (default)" in sends
    gateways = said(command, "view", network, "--gateways")
    assert "2001:db8:44::/64" in gateways and "10.44.3.128/26" in gateways
    side = said(command, "view", plain_bay / "broken.yaml", "landing", "skerry")
    assert "only landing has a route" in side and "2001:db8:44:4::/64" in side
    drawn = tmp_path / "diagram.svg"
    said(command, "draw", network, "-o", drawn)
    assert "2001:db8:44:4::1/64" in drawn.read_text() and "10.44.0.2 + auto" in drawn.read_text()


def test_a_trace_counts_hops_in_each_familys_words(command, plain_bay):
    four = said(command, "reach", plain_bay / "network.yaml", "purser", "lamp", "--trace")
    six = said(command, "reach", plain_bay / "network.yaml", "purser", "lamp", "--trace", "--family", "6")
    assert "TTL  device" in four and "hop limit  device" in six and "2001:db8:44:1::1" in six
    assert [line.split()[1] for line in six.splitlines()[4:]] == [line.split()[1] for line in four.splitlines()[4:]]


def test_what_neighbours_learned_in_both_families(command, plain_bay):
    tables = said(command, "view", plain_bay / "network.yaml", "landing", "--after", "lounge-1,lamp")
    assert "10.44.0.2" in tables and "06:00:00:00:00:" in tables


def test_the_kernels_script_holds_what_hosts_heard(command, plain_bay, tmp_path):
    script = tmp_path / "bay.sh"
    said(command, "export", plain_bay / "network.yaml", "--as", "linux", "-o", script)
    text = script.read_text()
    local = str(know(read_network(plain_bay / "network.yaml")).nodes["landing"].nics["p1.250"].link_local)
    assert f"addr replace {local}/64 dev p1.250 nodad" in text
    assert f"route add ::/0 via {local} dev port" in text
    assert text.count("fe80::") == 7  # one for each subinterface of the port, one way for each host that heard it


@pytest.mark.parametrize(
    ("families", "space", "held"),
    [
        ("[ipv4]", "[10.44.0.0/20, 2001:db8:44::/48]", {4}),
        ("[ipv6]", "[10.44.0.0/20, 2001:db8:44::/48]", {6}),
        ("[ipv4, ipv6]", "[10.44.0.0/20, 2001:db8:44::/48]", {4, 6}),
        ("[ipv4, ipv6]", "2001:db8:44::/48", {6}),
    ],
)
def test_a_vlan_of_one_family_beside_one_of_both(tmp_path, families, space, held):
    file = tmp_path / "brief.yaml"
    file.write_text(
        f"""format: archipelago-brief/1
space: {space}
vlans: {{tickets: {{id: 110, hosts: 5, families: {families}}}, crew: {{id: 120, hosts: 5}}}}
devices: {{landing: {{kind: router}}, q: {{kind: switch, ports: 9}}}}
gateways: [{{for: [tickets, crew], at: landing/p1}}]
hosts: {{a: {{vlan: tickets, at: q}}, b: {{vlan: crew, at: q}}, c: {{vlan: tickets, at: q, address: auto}}}}
cables: [landing/p1 ~ q/p9]
"""
    )
    made = archipelago.design(archipelago.read_brief(file)).network
    assert {one.version for one in made.hosts["a"].addresses} == held
    assert archipelago.audit(made) == () or held == {4}  # c then asks routers that have nothing to tell
    found = archipelago.matrix(made)
    assert found.reached == found.pairs == 6 and found.differing == 0
    answer = archipelago.reach(made, "a", "b")
    assert answer.family == min(held) and (answer.other_family is not None) == (len(held) == 2)


def test_ends_without_a_family_in_common():
    apart = network(
        Edit(("hosts", "kiosk-a", "address"), "10.44.0.10/26"),
        Edit(("hosts", "mess", "address"), "2001:db8:44:220::9/64"),
    )
    answer = archipelago.reach(apart, "kiosk-a", "mess")
    assert (answer.cause, answer.at, answer.reached) == ("no-common-family", "mess", False)
    back = archipelago.reach(apart, "mess", "kiosk-a")
    assert (back.cause, back.at) == ("no-common-family", "mess")
    (group,) = archipelago.matrix(apart).groups
    assert (group.finding.kind, group.finding.at, group.pairs) == ("no-common-family", "mess", 2)
    asked = archipelago.reach(apart, "kiosk-a", "mess", family=6)
    assert asked.at == "kiosk-a" and "IPv6" in asked.says
