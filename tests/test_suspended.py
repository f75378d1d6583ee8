"""VLANs that exist and are carried nowhere, on one switch or on all."""

from __future__ import annotations

from dataclasses import replace
from random import Random

import pytest

import archipelago
from archipelago import DocumentError, Network, read_network
from archipelago.knowledge.known import know
from archipelago.model.parts import DEFAULT_VLAN
from every_field import suspending
from makers import scrambled

CORE = """format: archipelago-network/1
vlans: {crew: {id: 220, suspended: yes}, tickets: {id: 210}}
devices:
  core:
    kind: l3switch
    routing: [ipv4]
    suspended-vlans: tickets  # for the winter
    ports: {"p{1..2}": {access: crew}, "p{3..4}": {access: tickets}}
    interfaces:
      crew-gw: {vlan: crew, address: 10.44.1.1/24}
      tickets-gw: {vlan: tickets, address: 10.44.2.1/24}
hosts:
  mess: {at: core/p1, address: 10.44.1.2/24, gateway: 10.44.1.1}
  bosun: {at: core/p2, address: 10.44.1.3/24, gateway: 10.44.1.1}
  kiosk: {at: core/p3, address: 10.44.2.2/24, gateway: 10.44.2.1}
"""


def lacking(network: Network) -> Network:
    """The network whose switches do not have what is suspended on them."""
    devices = {}
    for name, device in network.devices.items():
        if device.kind != "router":
            existing = {DEFAULT_VLAN, *(network.vlans.values() if device.vlans is None else device.vlans)}
            left = existing - {*network.suspended, *device.suspended_vlans}
            device = replace(device, vlans=tuple(sorted(left)), suspended_vlans=())
        devices[name] = device
    return replace(network, devices=devices, suspended=())


@pytest.mark.parametrize("seed", range(40))
def test_a_suspended_vlan_is_carried_as_if_the_switch_lacked_it(seed):
    """What no kernel has is the same as what every kernel has: no membership of any port."""
    random = Random(seed)
    network = scrambled(random, small=True)
    if network is None or not network.vlans:
        return
    network = suspending(network, random)
    assert read_network(archipelago.network_text(network)) == network
    without = lacking(network)
    for family in (4, 6):
        ours, theirs = (archipelago.matrix(one, family=family) for one in (network, without))
        assert [*ours.rows()] == [*theirs.rows()]
    pairs = [(a, b) for a in network.hosts for b in network.hosts if a != b]
    for a, b in random.sample(pairs, min(3, len(pairs))):
        answers = [archipelago.reach(one, a, b) for one in (network, without)]
        assert answers[0].reached == answers[1].reached
    up = [
        {n: [nic.up for nic in node.nics.values()] for n, node in know(one).devices.items()}
        for one in (network, without)
    ]
    assert up[0] == up[1]


def test_it_is_named_and_taken_up_again_and_nothing_else_is_touched(command, tmp_path):
    (path := tmp_path / "core.yaml").write_text(CORE)
    told = command("reach", path, "mess", "bosun").stdout
    assert "crew (220) is suspended everywhere [vlan-suspended]" in told
    assert "let every switch carry crew again" in told
    assert [(one.kind, one.at) for one in archipelago.audit(read_network(path))] == [("vlan-suspended", "core")] * 2
    shown = command("view", path).stdout
    assert "suspended everywhere" in shown and "suspended on core" in shown
    mended = archipelago.mend(path)
    assert mended.text == CORE.replace(", suspended: yes", "").replace(
        "    suspended-vlans: tickets  # for the winter\n", ""
    )
    assert (
        not [one for one in mended.left if one.is_error] and archipelago.reach(mended.network, "mess", "kiosk").reached
    )


def test_it_is_a_step_of_a_change_and_something_to_enter():
    old = read_network(
        CORE.replace(", suspended: yes", "").replace("    suspended-vlans: tickets  # for the winter\n", "")
    )
    new = read_network(CORE)
    for start, end in ((old, new), (new, old)):
        change = archipelago.change(start, end, "mess")
        assert change.at(len(change)) == end and len(change) == 2
        words = " ".join(str(step) for step in change)
        assert "suspended" in words
    entered = archipelago.setting_up(new).devices["core"]
    assert entered.index("suspend VLAN 220 (crew)") > entered.index("create VLAN 220 (crew)")


@pytest.mark.parametrize(
    "old, new, said",
    [
        ("{id: 220, suspended: yes}", "{suspended: yes}", "'crew' lacks the key 'id'"),
        ("suspended: yes", "suspended: perhaps", "'perhaps' is neither true nor false"),
        ("suspended-vlans: tickets", "suspended-vlans: [guests]", "there is no VLAN 'guests' in the catalogue"),
        ("kind: l3switch", "kind: router", "has no VLANs of its own, so it suspends none"),
    ],
)
def test_what_cannot_be_suspended_is_refused(old, new, said):
    with pytest.raises(DocumentError, match=said):
        read_network(CORE.replace(old, new))
