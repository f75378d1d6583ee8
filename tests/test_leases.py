"""Leases: who is given which address by whom, why not, and what is wrong with pools, relays and servers."""

from __future__ import annotations

import json
from dataclasses import replace
from itertools import pairwise
from random import Random

import hypothesis
import pytest
from hypothesis import strategies as st

import archipelago
from archipelago import DocumentError, read_network
from archipelago.addressing.values import Address, parse_address, parse_prefix
from archipelago.diagnosis.leased import server_address
from archipelago.knowledge.index import index_network
from archipelago.knowledge.known import apply_change, know
from archipelago.knowledge.pools import stocks_of
from archipelago.model.leases import AddressRange, Pool
from makers import leasing, scrambled

GUESTS = (
    "      guests: {subnet: 10.44.3.0/24, range: 10.44.3.100-10.44.3.120, gateway: 10.44.3.1, dns-server: 10.44.1.5}\n"
)
PORTS = "    ports: {p2: {address: 10.44.9.0/31}}\n"
SOUND = """format: archipelago-network/1
vlans: {servers: 10, crew: 20, guests: 30, yard: 40}
devices:
  landing:
    kind: router
    ports: {p2: {address: 10.44.9.0/31}}
    interfaces:
      p1.10: {parent: p1, tag: servers, address: 10.44.1.1/24}
      p1.20: {parent: p1, tag: crew, address: 10.44.2.1/24, dhcp-relay: 10.44.1.5}
      p1.30: {parent: p1, tag: guests, address: 10.44.3.1/24}
    dhcp-pools:
      guests: {subnet: 10.44.3.0/24, range: 10.44.3.100-10.44.3.120, gateway: 10.44.3.1, dns-server: 10.44.1.5}
    routes: [{destination: 10.44.4.0/24, next-hop: 10.44.9.1}]
  holm:
    kind: l3switch
    routing: [ipv4]
    ports: {p1: {access: yard}, p2: {access: yard}, p12: {address: 10.44.9.1/31}}
    interfaces:
      yard-gw: {vlan: yard, address: 10.44.4.1/24, dhcp-relay: [10.44.1.5]}
    routes: [{destination: 0.0.0.0/0, next-hop: 10.44.9.0}]
  hall:
    kind: switch
    ports:
      p24: {trunk: [servers, crew, guests], untagged: none}
      p1: {access: servers}
      p2: {access: crew}
      "p{3..5}": {access: guests}
      p7: {access: crew}
hosts:
  office:
    at: hall/p1
    address: 10.44.1.5/24
    gateway: 10.44.1.1
    dhcp-pools:
      crew: {subnet: 10.44.2.0/24, range: 10.44.2.100-10.44.2.199, gateway: 10.44.2.1, reservations: {mess: 10.44.2.7}}
      yard: {subnet: 10.44.4.0/24, range: [10.44.4.50-10.44.4.51, 10.44.4.56-10.44.4.60], gateway: 10.44.4.1}
  purser: {at: hall/p2, address: dhcp}
  lounge-1: {at: hall/p3, address: dhcp}
  lounge-2: {at: hall/p4, address: dhcp}
  desk: {at: hall/p5, address: 10.44.3.9/24, gateway: 10.44.3.1}
  mess: {at: hall/p7, address: dhcp}
  barrier: {at: holm/p1, address: dhcp}
  crane: {at: holm/p2, address: dhcp}
cables: [landing/p1 ~ hall/p24, landing/p2 ~ holm/p12]
"""


def given(text):
    return archipelago.leases(read_network(text))


def wrong(text):
    findings = [finding for finding in archipelago.audit(read_network(text)) if finding.severity != "note"]
    return [(finding.kind, finding.at, finding.mend) for finding in findings]


def test_who_is_given_what_by_whom(command, tmp_path):
    assert wrong(SOUND) == []
    assert archipelago.matrix(read_network(SOUND)).reached == 8 * 7
    expected = {
        "purser": ["10.44.2.100/24", "10.44.2.1", "office", "landing/p1.20"],
        "lounge-1": ["10.44.3.100/24", "10.44.3.1", "landing", None],
        "lounge-2": ["10.44.3.101/24", "10.44.3.1", "landing", None],
        "mess": ["10.44.2.7/24", "10.44.2.1", "office", "landing/p1.20"],
        "barrier": ["10.44.4.50/24", "10.44.4.1", "office", "holm/yard-gw"],
        "crane": ["10.44.4.51/24", "10.44.4.1", "office", "holm/yard-gw"],
    }
    keys = ("address", "gateway", "server", "relay")
    assert given(SOUND) == {name: dict(zip(keys, row, strict=True)) for name, row in expected.items()}
    (file := tmp_path / "bay.yaml").write_text(SOUND)
    assert json.loads(command("view", file, "--leases", "--json").stdout) == given(SOUND).values()
    shown = command("view", file, "--leases").stdout
    assert shown.startswith("6 of 6 hosts that ask have a lease, from 2 servers") and "holm/yard-gw" in shown
    network = read_network(SOUND)
    assert read_network(archipelago.network_text(network)) == network


ORDER = [
    ("of several ranges in their order", "[10.44.4.50-10.44.4.51", "[10.44.4.50", "crane", "10.44.4.56/24"),
    ("a reserved one is kept", "{mess: 10.44.2.7}", "{mess: 10.44.2.7, desk: 10.44.2.100}", "purser", "10.44.2.101/24"),
    ("never the relay's", "10.44.2.100-10", "10.44.2.1-10", "purser", "10.44.2.2/24"),
    ("never the server's own there", "10.44.3.100-", "10.44.3.1-", "lounge-1", "10.44.3.2/24"),
    (
        "a range is as it is written",
        "10.44.3.100-10.44.3.120",
        "[10.44.3.105, 10.44.3.101]",
        "lounge-1",
        "10.44.3.105/24",
    ),
]


@pytest.mark.parametrize(("rule", "old", "new", "host", "address"), ORDER)
def test_which_address_is_given(rule, old, new, host, address):
    assert old in SOUND
    assert given(SOUND.replace(old, new))[host]["address"] == address, rule


def test_the_own_domain_comes_first_then_servers_then_relays():
    both = SOUND.replace("p1.30: {parent: p1, tag: guests,", "p1.30: {parent: p1, tag: guests, dhcp-relay: 10.44.1.5,")
    pool = "guests: {subnet: 10.44.3.0/24, range: 10.44.3.200-10.44.3.210}"
    both = both.replace("      yard: {subnet", f"      {pool}\n      yard: {{subnet")
    assert given(both)["lounge-1"]["server"] == "landing"
    away = both.replace("range: 10.44.3.100-10.44.3.120", "range: 10.44.3.100")
    answers = given(away)
    assert answers["lounge-2"] == {
        "address": "10.44.3.200/24",
        "gateway": None,
        "server": "office",
        "relay": "landing/p1.30",
    }


def test_a_gateway_that_is_the_leased_address_is_told_and_is_none():
    text = SOUND.replace("gateway: 10.44.3.1, dns", "gateway: 10.44.3.100, dns")
    assert {given(text)[name]["gateway"] for name in ("lounge-1", "lounge-2")} == {"10.44.3.100"}
    learned = know(read_network(text)).network.hosts
    assert not learned["lounge-1"].gateway and str(learned["lounge-2"].gateway[0]) == "10.44.3.100"


FILTERS = """    filters:
      guard:
        rules: [{drop: udp, destination-port: 67}]
        otherwise: accept
"""
MISTAKES = [
    ("pool-used-up", "landing", "range: 10.44.3.100-10.44.3.120", "range: 10.44.3.100"),
    ("pool-gateway-wrong", "landing", "10.44.3.120, gateway: 10.44.3.1", "10.44.3.120, gateway: 10.44.3.2"),
    ("pool-gateway-wrong", "office", "10.44.2.199, gateway: 10.44.2.1", "10.44.2.199, gateway: 10.44.1.1"),
    ("pool-gateway-missing", "office", "10.44.2.199, gateway: 10.44.2.1,", "10.44.2.199,"),
    ("pool-subnet-wrong", "office", "{subnet: 10.44.2.0/24", "{subnet: 10.44.2.0/23"),
    ("pool-subnet-wrong", "office", "{subnet: 10.44.4.0/24", "{subnet: 10.44.4.32/27"),
    ("pool-over-address", "landing", "range: 10.44.3.100-", "range: 10.44.3.9-"),
    ("relay-missing", "landing", "10.44.2.1/24, dhcp-relay: 10.44.1.5}", "10.44.2.1/24}"),
    ("relay-nowhere", "landing", "10.44.2.1/24, dhcp-relay: 10.44.1.5}", "10.44.2.1/24, dhcp-relay: 10.44.1.6}"),
    ("relay-nowhere", "holm", "dhcp-relay: [10.44.1.5]", "dhcp-relay: [10.44.3.9]"),
    ("route-missing", "holm", "    routes: [{destination: 0.0.0.0/0, next-hop: 10.44.9.0}]\n", ""),
    ("route-missing", "landing", "    routes: [{destination: 10.44.4.0/24, next-hop: 10.44.9.1}]\n", ""),
    ("gateway-missing", "office", "    gateway: 10.44.1.1\n", ""),
    ("admin-down", "landing", "10.44.2.1/24, dhcp-relay", "10.44.2.1/24, off: true, dhcp-relay"),
    ("vlan-not-carried", "hall", "trunk: [servers, crew, guests]", "trunk: [crew, guests]"),
    ("pool-missing", "landing", "    dhcp-pools:\n" + GUESTS, ""),
    ("lease-elsewhere", "mess", "p7: {access: crew}", "p7: {access: guests}"),
    ("lease-filtered", "landing", PORTS, PORTS + FILTERS),
    (
        "server-stranger",
        "desk",
        "  desk: {at: hall/p5,",
        "  desk: {dhcp-pools: {x: {subnet: 10.44.3.0/24, range: 10.44.3.50-10.44.3.60}}, at: hall/p5,",
    ),
]


@pytest.mark.parametrize(("kind", "at", "old", "new"), MISTAKES)
def test_each_mistake_is_named_and_mended(kind, at, old, new):
    assert old in SOUND
    text = SOUND.replace(old, new)
    if kind == "lease-filtered":
        text = text.replace("address: 10.44.3.1/24}", "address: 10.44.3.1/24, filter-in: guard}")
    found = wrong(text)
    assert (kind, at) in {(kind, where) for kind, where, _ in found}, found
    network = read_network(text)
    asked = [archipelago.lease(network, host).finding for host in archipelago.leases(network)]
    assert kind in {finding.kind for finding in asked if finding is not None and finding.edits}
    every = archipelago.matrix(network)
    assert not every.groups or kind in {group.finding.kind for group in every.groups}
    mended = archipelago.mend(text)
    assert mended.made, found
    network = mended.network
    assert archipelago.leases(network), str(archipelago.leases(network))
    assert archipelago.matrix(network).reached == 56 and wrong(mended.text) == []


@pytest.mark.parametrize(
    ("names", "told"),
    [
        (("crew-1", "crew-2"), "where 1 other of its name leases"),
        (("crew-a", "purser"), "and not in crew (20), which is called like it"),
        (("tablet-1", "tablet-2"), None),
    ],
)
def test_a_host_called_like_another_vlan_than_it_leases_in(names, told):
    text = SOUND.replace("reservations: {mess: 10.44.2.7}", "lease-time: 8h")
    text = text.replace("  mess:", f"  {names[0]}:").replace("  purser:", f"  {names[1]}:")
    sound, astray = read_network(text), text.replace("p7: {access: crew}", "p7: {access: guests}")
    assert archipelago.audit(sound) == ()
    found = [one for one in archipelago.audit(read_network(astray)) if one.kind == "lease-apart"]
    assert archipelago.matrix(read_network(astray)).reached == 56
    if told is None:
        assert not found
        return
    assert told in found[0].says and archipelago.lease(read_network(astray), names[0]).finding.kind == "lease-apart"
    assert archipelago.mend(astray).text == text


def test_a_filter_that_lets_the_first_lease_pass_and_not_the_renewal():
    rules = "{accept: udp, source: 0.0.0.0/32}, {drop: udp, destination-port: 67}"
    text = SOUND.replace(
        "    interfaces:\n      p1.10",
        FILTERS.replace("{drop: udp, destination-port: 67}", rules) + "    interfaces:\n      p1.10",
    )
    text = text.replace("address: 10.44.2.1/24,", "address: 10.44.2.1/24, filter-in: guard,")
    assert given(text) == given(SOUND)
    ((kind, at, mend),) = wrong(text)
    assert (kind, at) == ("renewal-filtered", "landing") and "10.44.2.0/24" in mend
    assert wrong(archipelago.mend(text).text) == []


def test_two_servers_of_one_vlan_are_to_agree():
    relayed = SOUND.replace("address: 10.44.3.1/24", "address: 10.44.3.1/24, dhcp-relay: 10.44.1.5")
    pool = "guests: {subnet: 10.44.3.0/24, range: 10.44.3.115-10.44.3.130, gateway: 10.44.3.2}"
    text = relayed.replace("      yard: {subnet", f"      {pool}\n      yard: {{subnet")
    assert {kind for kind, _, _ in wrong(text)} == {"servers-differ", "servers-overlap"}
    mended = archipelago.mend(text)
    assert wrong(mended.text) == []
    given_ = mended.network.hosts["office"].dhcp_pools["guests"]
    assert str(given_.gateway) == "10.44.3.1" and [str(part) for part in given_.ranges] == ["10.44.3.121-10.44.3.130"]


REFUSED = [
    (
        "  hall:\n    kind: switch\n",
        "  hall:\n    kind: switch\n    dhcp-pools: {x: {subnet: 10.44.3.0/24}}\n",
        "leases nothing",
    ),
    ("range: 10.44.3.100-10.44.3.120", "range: 10.44.3.0-10.44.3.120", "not within 10.44.3.0/24"),
    ("range: 10.44.3.100-10.44.3.120", "range: 10.44.3.120-10.44.3.100", "not a range of addresses"),
    ("{mess: 10.44.2.7}", "{mess: 10.44.3.7}", "not in 10.44.2.0/24"),
    ("{mess: 10.44.2.7}", "{mess: 10.44.2.7, purser: 10.44.2.7}", "reserved for 'mess' already"),
    ("{mess: 10.44.2.7}", "{nobody: 10.44.2.7}", "no host 'nobody'"),
    (
        "purser: {at: hall/p2, address: dhcp}",
        "purser: {at: hall/p2, address: dhcp, gateway: 10.44.2.1}",
        "leases its IPv4 gateway",
    ),
    (
        "purser: {at: hall/p2, address: dhcp}",
        "purser: {at: hall/p2, address: [dhcp, 10.44.2.9/24]}",
        "leases its IPv4 address",
    ),
    ("address: 10.44.3.1/24}", "dhcp-relay: 10.44.1.5}", "has no IPv4 address"),
    ("dns-server: 10.44.1.5", "lease-time: soon", "not a length of time"),
    (
        "subnet: 10.44.3.0/24, range: 10.44.3.100-10.44.3.120, gateway: 10.44.3.1, dns-server: 10.44.1.5",
        "subnet: '2001:db8::/64'",
        "not IPv4",
    ),
]


@pytest.mark.parametrize(("old", "new", "told"), REFUSED)
def test_what_cannot_be_is_refused(old, new, told):
    assert old in SOUND
    with pytest.raises(DocumentError, match=told) as refused:
        read_network(SOUND.replace(old, new))
    assert all(problem.line for problem in refused.value.problems)


BRIEF = """format: archipelago-brief/1
space: 10.44.0.0/20
vlans:
  servers: {id: 10, hosts: 10}
  crew: {id: 20, hosts: 40}
  guests: {id: 30, hosts: 100}
devices:
  landing: {kind: router, ports: 4}
  hall: {kind: switch, ports: 24}
  holm: {kind: l3switch, ports: 12}
gateways:
  - {for: [servers, crew], at: landing/p1}
  - {for: guests, at: holm}
hosts:
  office: {vlan: servers, at: hall/p1}
  purser: {vlan: crew, at: hall/p2, address: dhcp}
  lounge: {vlan: guests, at: holm/p1, address: dhcp}
  desk: {vlan: guests, at: holm/p2, address: 10.44.0.66/25}
cables: [landing/p1 ~ hall/p24, landing/p2 ~ holm/p12]
"""
CENTRAL = BRIEF.replace("vlans:", "conventions: {server: office, dns-server: [office, 10.44.9.9]}\nvlans:", 1)


def test_each_gateway_leases_where_hosts_ask():
    network = archipelago.design(archipelago.read_brief(BRIEF)).network
    assert list(network.devices["landing"].dhcp_pools) == ["crew"]
    (guests,) = network.devices["holm"].dhcp_pools.values()
    assert [str(part) for part in guests.ranges] == [
        "10.44.0.27-10.44.0.65",
        "10.44.0.67-10.44.0.126",
    ]  # round the desk
    assert archipelago.leases(network)["lounge"]["gateway"] == str(guests.gateway) == "10.44.0.1"
    assert archipelago.matrix(network).reached == 12


def test_a_pool_has_room_for_the_hosts_that_are_foreseen():
    text = BRIEF.replace("crew: {id: 20, hosts: 40}", "crew: {id: 20, hosts: 48}")
    network = archipelago.design(archipelago.read_brief(text)).network
    (crew,) = network.devices["landing"].dhcp_pools.values()
    assert sum(part.size for part in crew.ranges) == 48  # more than the half that is kept for leases


def test_a_central_server_leases_everywhere_by_relays():
    network = archipelago.design(archipelago.read_brief(CENTRAL)).network
    pools = network.hosts["office"].dhcp_pools
    assert list(pools) == ["servers", "crew", "guests"]
    own = network.hosts["office"].addresses[0].address
    assert [str(server) for server in pools["crew"].dns_server] == [str(own), "10.44.9.9"]
    relays = {
        f"{device.name}/{part.name}": part.dhcp_relay
        for device in network.devices.values()
        for part in device.interfaces.values()
        if part.addresses
    }
    assert relays == {"landing/p1.10": (), "landing/p1.20": (own,), "holm/guests-gw": (own,)}
    assert archipelago.leases(network)["lounge"]["relay"] == "holm/guests-gw"
    assert archipelago.audit(network).errors == 0


@pytest.mark.parametrize("brief", [BRIEF, CENTRAL])
def test_a_policy_lets_leases_pass(brief):
    policy = "policy: {rules: [{from: purser, to: lounge, may: icmp}], otherwise: none}\n"
    network = archipelago.design(archipelago.read_brief(brief + policy)).network
    assert archipelago.leases(network)
    assert archipelago.reach(network, "purser", "lounge").reached
    assert not archipelago.reach(network, "lounge", "purser").reached
    assert not archipelago.reach(network, "purser", "desk").reached


def test_pools_follow_a_gateway_that_moves_and_keep_what_they_hold():
    old = archipelago.design(archipelago.read_brief(BRIEF)).network
    text = archipelago.network_text(old).replace("10.44.0.67-10.44.0.126", "10.44.0.80-10.44.0.90")
    text = text.replace(
        "gateway: 10.44.0.1}", "gateway: 10.44.0.1, lease-time: 2h, reservations: {lounge: 10.44.0.77}}", 1
    )
    moved = BRIEF.replace("at: holm}", "at: landing/p2}").replace("holm: {kind: l3switch", "holm: {kind: switch")
    network = archipelago.design(archipelago.read_brief(moved), keep=read_network(text)).network
    pool = network.devices["landing"].dhcp_pools["guests"]
    assert "10.44.0.80-10.44.0.90" in map(str, pool.ranges) and pool.lease_time == 2 * 3_600_000
    answer = archipelago.leases(network)["lounge"]
    assert answer == {"address": "10.44.0.77/25", "gateway": "10.44.0.1", "server": "landing", "relay": None}


UNABLE = [
    (CENTRAL.replace("server: office", "server: hall"), "leases nothing"),
    (CENTRAL.replace("server: office", "server: offices"), "no host or device 'offices'"),
    (CENTRAL.replace("server: office", "server: purser"), "leases its own address"),
    (CENTRAL.replace("[office,", "[offices,"), "no host 'offices'"),
]


@pytest.mark.parametrize(("text", "told"), UNABLE)
def test_what_a_brief_cannot_ask_of_leases(text, told):
    with pytest.raises(DocumentError, match=told):
        archipelago.read_brief(text)


def unreserved(part, name):
    """A device or host whose pools keep nothing for a host."""
    pools = {
        label: replace(pool, reservations={host: kept for host, kept in pool.reservations.items() if host != name})
        for label, pool in part.dhcp_pools.items()
    }
    return replace(part, dhcp_pools=pools)


def one_change(network, random):
    """The network with one thing otherwise that leases hang on, or another."""
    asking = [host for host in network.hosts.values() if host.dhcp]
    serving = [(name, pool) for name, device in network.devices.items() for pool in device.dhcp_pools]
    kind = random.choice(("off", "gone", "pool", "pool", "port"))
    if kind == "off" and asking:
        host = random.choice(asking)
        return replace(network, hosts={**network.hosts, host.name: replace(host, off=not host.off)})
    if kind == "gone" and asking:
        name = random.choice(asking).name
        devices = {label: unreserved(device, name) for label, device in network.devices.items()}
        hosts = {label: unreserved(host, name) for label, host in network.hosts.items() if label != name}
        return replace(network, devices=devices, hosts=hosts, expect=())
    if kind == "pool" and serving:
        name, label = random.choice(serving)
        pools = dict(network.devices[name].dhcp_pools)
        if random.random() < 0.5:
            del pools[label]
        else:
            pools[label] = replace(pools[label], ranges=pools[label].ranges[:1], gateway=None)
        return replace(network, devices={**network.devices, name: replace(network.devices[name], dhcp_pools=pools)})
    device = random.choice(list(network.devices.values()))
    ports = {name: replace(port, off=not port.off) for name, port in list(device.ports.items())[:1]}
    return replace(network, devices={**network.devices, device.name: replace(device, ports={**device.ports, **ports})})


@pytest.mark.parametrize("first", range(0, 120, 20))
def test_a_change_decides_the_leases_that_it_touches_as_all_would_be_decided_anew(first):
    kept = 0
    for seed in range(first, first + 20):
        random = Random(seed)
        network = scrambled(random, anything=seed % 3 == 0)
        if network is None:
            continue
        known = know(leasing(network, random))
        for _ in range(4):
            before = known.leases.given
            known = apply_change(known, one_change(known.written, random))
            fresh = know(known.written)
            assert list(known.leases.given.items()) == list(fresh.leases.given.items()), seed
            asking = fresh.leases.given
            assert all(known.leases.listeners(host) == fresh.leases.listeners(host) for host in asking)
            assert dict(known.network.hosts) == dict(fresh.network.hosts)
            kept += sum(lease is not None and lease is before.get(host) for host, lease in known.leases.given.items())
    assert kept


@pytest.mark.parametrize("seed", range(60))
def test_the_exchange_gives_what_is_known(seed):
    random = Random(seed + 5000)
    network = scrambled(random, small=random.random() < 0.5)
    network = leasing(network, random) if network is not None else None
    if network is None:
        pytest.skip("this seed makes nothing to ask about")
    assert read_network(archipelago.network_text(network)) == network
    for host, known in archipelago.leases(network).items():
        asked = archipelago.lease(network, host)
        got = {"address": asked.address, "gateway": asked.gateway, "server": asked.server, "relay": asked.relay}
        assert (got if asked.leased else None) == known, (host, str(asked))
        assert asked.leased or asked.finding is not None
    audit = archipelago.audit(network)
    assert "unexplained" not in {finding.kind for finding in audit}


@pytest.mark.long
def test_the_exchange_is_told_message_by_message(command, tmp_path):
    (file := tmp_path / "bay.yaml").write_text(SOUND)
    done = command("reach", file, "barrier", "--lease")
    assert done.returncode == 0
    assert done.stdout.startswith(
        "LEASED: barrier gets 10.44.4.50/24 and the gateway 10.44.4.1 from office by the relay holm/yard-gw"
    )
    kinds = ("discover", "offer of", "request for", "acknowledgement of", "to keep 10.44.4.50")
    places = [done.stdout.index(kind) for kind in kinds]
    assert places == sorted(places) and "renewal after half of the lease: acknowledged" in done.stdout
    values = json.loads(command("reach", file, "barrier", "--lease", "--json").stdout)
    assert (values["address"], values["relay"], values["renewed"]) == ("10.44.4.50/24", "holm/yard-gw", True)
    events = command("reach", file, "barrier", "--lease", "--protocol", "dhcp").stdout
    assert "discover for barrier: 0.0.0.0 to 255.255.255.255" in events and "ARP" not in events
    file.write_text(SOUND.replace("    routes: [{destination: 10.44.4.0/24, next-hop: 10.44.9.1}]\n", ""))
    done = command("reach", file, "barrier", "--lease")
    assert done.returncode == 1 and done.stdout.startswith(
        "NO LEASE: barrier asks and gets no address\n  where: at lan"
    )
    assert "the answer does not get back to the relay: ended at landing, no route" in done.stdout
    assert command("reach", file, "desk", "--lease").returncode == 2
    assert command("reach", file, "barrier", "crane", "--lease").returncode == 2


def test_a_gateway_that_nobody_holds_is_told_where_no_router_is_either():
    text = """format: archipelago-network/1
vlans: {crew: 20}
devices: {hall: {kind: switch, ports: {"p{1..3}": {access: crew}}}}
hosts:
  office:
    at: hall/p1
    address: 10.44.2.5/24
    dhcp-pools: {crew: {subnet: 10.44.2.0/24, range: 10.44.2.100-10.44.2.110, gateway: 10.44.2.1}}
  purser: {at: hall/p2, address: dhcp}
"""
    found = archipelago.lease(read_network(text), "purser")
    assert found.leased and found.finding.kind == "pool-gateway-wrong" and "nobody holds" in found.finding.says
    assert "pool-gateway-wrong" in {finding.kind for finding in archipelago.audit(read_network(text))}


@hypothesis.given(st.integers(0, 60), st.integers(0, 40), st.sets(st.integers(0, 110)))
def test_a_range_without_addresses_is_what_is_left_of_it(first, size, gone):
    base = 0x0A2C0000
    whole = AddressRange(Address(4, base + first), Address(4, base + first + size))
    left = whole.without(Address(4, base + value) for value in gone)
    values = [value for part in left for value in range(part.first.value, part.last.value + 1)]
    assert values == [base + value for value in range(first, first + size + 1) if value not in gone]
    assert all(one.last.value + 1 < other.first.value for one, other in pairwise(left))  # no part could be longer
    assert sum(part.size for part in left) == len(values)


@hypothesis.given(
    st.lists(
        st.tuples(st.lists(st.tuples(st.integers(2, 60), st.integers(0, 6)), max_size=2), st.integers(0, 60)),
        min_size=1,
        max_size=6,
    )
)
def test_pools_that_share_an_address_share_a_stock(drawn):
    base = Address(4, parse_address("10.44.1.0").value)
    pools, held = {}, {}
    for number, (spans, kept) in enumerate(drawn):
        ranges = tuple(
            AddressRange(Address(4, base.value + first), Address(4, base.value + first + size)) for first, size in spans
        )
        reserved = {"purser": Address(4, base.value + kept)} if kept > 1 else {}
        name = f"pool-{number}"
        pools[name] = Pool(name, parse_prefix("10.44.1.0/25"), ranges, reservations=reserved)
        held[name] = {first + step for first, size in spans for step in range(size + 1)} | (
            {kept} if kept > 1 else set()
        )
    together = {name: {name} for name in pools}
    for _ in pools:  # joined until nothing joins any more
        for one in pools:
            for other in pools:
                if any(held[a] & held[b] for a in together[one] for b in together[other]):
                    together[one] = together[other] = together[one] | together[other]
    stocks = stocks_of(pools)
    for one in pools:
        for other in pools:
            assert (stocks[one] == stocks[other]) == (other in together[one])


def test_a_server_names_itself_by_the_interface_by_which_the_question_came():
    pool = "{subnet: 10.44.2.0/24, range: 10.44.2.20-10.44.2.29, gateway: 10.44.2.1}"
    text = SOUND.replace("dhcp-relay: 10.44.1.5}", "dhcp-relay: 10.44.9.1}")
    text = text.replace("    kind: l3switch\n", f"    kind: l3switch\n    dhcp-pools: {{crew: {pool}}}\n")
    text = text.replace("p12: {address: 10.44.9.1/31}", "p12: {address: [10.44.9.3/31, 10.44.9.1/31]}")
    text = text.replace("ports: {p2: {address: 10.44.9.0/31}}", "ports: {p2: {address: [10.44.9.0/31, 10.44.9.2/31]}}")
    network = read_network(text)
    assert archipelago.leases(network)["purser"]["server"] == "holm"
    exchange = archipelago.lease(network, "purser")
    assert exchange.leased and exchange.renewed and exchange.finding is None
    index = index_network(network)
    assert str(server_address(index, index.knowledge.leases.of("purser"))) == "10.44.9.3"


def test_what_a_host_sends_to_can_be_asked_for_as_its_gateway():
    network = read_network(SOUND)
    leased = archipelago.leases(network)["lounge-1"]["gateway"]
    asked = archipelago.reach(network, "purser", "lounge-1/gateway")
    assert asked.reached and asked.address == leased == "10.44.3.1"
    broken = archipelago.break_part(network, "landing/p2", "purser", "purser/gateway")
    assert broken.target == "10.44.2.1"
    without = read_network(SOUND.replace("    gateway: 10.44.1.1\n", ""))
    with pytest.raises(archipelago.QueryError, match="'office' has no gateway"):
        archipelago.reach(without, "purser", "office/gateway")


APART = """format: archipelago-network/1
vlans: {crew: 220, guests: 250}
devices:
  core:
    kind: l3switch
    routing: [ipv4]
    ports: {"p{1..3}": {access: crew}, p4: {access: guests}, p5: {access: crew}}
    interfaces:
      crew-gw: {vlan: crew, address: 10.44.1.1/24}
      guests-gw: {vlan: guests, address: 10.44.2.1/24}
    dhcp-pools: {guests: {subnet: 10.44.2.0/24, range: 10.44.2.100-10.44.2.200, gateway: 10.44.2.1}}
hosts:
  mess: {at: core/p1, address: 10.44.1.2/24, gateway: 10.44.1.1}
  lounge-1: {at: core/p4, address: dhcp}
  lounge-2: {at: core/p5, address: dhcp}
"""


def test_who_alone_leases_among_hosts_with_addresses_lacks_a_pool_or_is_plugged_in_wrong():
    def told(text):
        (finding,) = [one for one in archipelago.audit(read_network(text)) if one.is_error]
        assert finding.kind == archipelago.reach(read_network(text), "lounge-2", "lounge-1").cause == "pool-missing"
        assert finding.edits
        return finding.says

    assert "or core/p5 is meant for a VLAN where others lease (guests)" in told(APART)
    # Where another host asks there too, the VLAN is one that people lease in.
    assert "meant for" not in told(APART.replace("address: 10.44.1.2/24, gateway: 10.44.1.1", "address: dhcp"))


def test_the_cable_of_the_only_relay_that_serves_nobody_is_missing():
    network = read_network("""format: archipelago-network/1
vlans: {light: 261, gates: 223}
devices:
  holm:
    kind: router
    ports:
      p1: {address: 10.44.83.1/24}
      p2: {address: 10.44.59.1/26}
    dhcp-pools: {light: {subnet: 10.44.83.0/24, range: 10.44.83.45-10.44.83.60, gateway: 10.44.83.1}}
  floor:
    kind: switch
    ports: {"p{1..3}": {access: light}, "p{4..5}": {access: gates}}
hosts:
  light-8: {at: floor/p2, address: dhcp}
  light-9: {at: floor/p3, address: dhcp}
  gates-10: {at: floor/p4, address: 10.44.59.10/26, gateway: 10.44.59.1}
cables:
  - holm/p2 ~ floor/p5
""")
    (finding,) = [one for one in archipelago.audit(network) if one.is_error]
    assert (finding.kind, finding.mend) == ("not-cabled", "cable floor/p1 to holm/p1")
    assert archipelago.reach(network, "light-8", "gates-10").cause == "not-cabled"
    assert archipelago.reach(archipelago.mend(network).network, "light-8", "gates-10").reached
