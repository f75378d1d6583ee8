"""Aggregates that two devices share: which half is in use, what takes over, what must be equal on both."""

from __future__ import annotations

from random import Random

import pytest

import archipelago
from agreement import calculated, simulated
from archipelago import DocumentError, amend, read_network
from archipelago.knowledge.index import index_network
from archipelago.knowledge.known import know
from archipelago.knowledge.parts import switched_off
from archipelago.reachability.build import build_arrays, change_arrays
from archipelago.reachability.matrix import matrix
from archipelago.views.redundancy import tables
from redundant import acting_as_one, broken, redundant

SECOND = 10**9
AS_ONE = """format: archipelago-network/1
vlans: {crew: 120, yard: 130}
devices:
  core-1:
    kind: l3switch
    routing: [ipv4]
    bridge-priority: 4096
    ports: {p2: {trunk: [crew, yard], untagged: none}, p3: {access: yard}}
    interfaces:
      to-quay: {members: [p1], trunk: [crew, yard], untagged: none, shared-with: core-2}
      crew-gw: {vlan: crew, address: 10.44.2.2/24, virtual: {vrid: 20, address: 10.44.2.1, priority: 200}}
      yard-gw: {vlan: yard, address: 10.44.3.2/24, virtual: {vrid: 30, address: 10.44.3.1, priority: 200}}
  core-2:
    kind: l3switch
    routing: [ipv4]
    bridge-priority: 8192
    ports: {p2: {trunk: [crew, yard], untagged: none}}
    interfaces:
      to-quay: {members: [p1], trunk: [crew, yard], untagged: none, shared-with: core-1}
      crew-gw: {vlan: crew, address: 10.44.2.3/24, virtual: {vrid: 20, address: 10.44.2.1}}
      yard-gw: {vlan: yard, address: 10.44.3.3/24, virtual: {vrid: 30, address: 10.44.3.1}}
  quay:
    kind: switch
    ports: {p3: {access: crew}}
    interfaces: {up: {members: [p1, p2], trunk: [crew, yard], untagged: none}}
hosts:
  mess: {at: quay/p3, address: 10.44.2.10/24, gateway: 10.44.2.1}
  crane: {at: core-1/p3, address: 10.44.3.10/24, gateway: 10.44.3.1}
cables: [core-1/p1 ~ quay/p1, core-2/p1 ~ quay/p2, core-1/p2 ~ core-2/p2]
"""
CABLE = "core-1/p1 ~ quay/p1"


def test_one_half_waits_and_the_tree_has_nothing_to_block():
    known = know(read_network(AS_ONE))
    assert known.devices.tree.waiting == {"core-2": frozenset({"to-quay"})} and not known.devices.tree.blocked
    assert known.devices["core-2"].nics["crew-gw"].up  # the half that waits has carrier, and the pair acts as one
    left = know(switched_off(known, [CABLE]))
    assert left.devices.tree.waiting == {} and left.devices["core-2"].attachments["to-quay"].passes


def test_outages_know_the_other_half_and_no_probe_is_lost():
    network = read_network(AS_ONE)
    found = archipelago.outages(network)
    assert list(map(str, found[CABLE].takeovers)) == ["core-2 forwards on to-quay"]
    assert found[CABLE].outcome == "taken over" and found["core-2/p1 ~ quay/p2"].outcome == "not missed"
    result = archipelago.break_part(network, CABLE, "mess", "crane")
    assert result.lost == () and result.survived
    assert [(one.time, one.what) for one in result.noticed if one.where == "core-2/to-quay"] == [
        (0, "is used now, as the far end sends there")
    ]
    back = archipelago.break_part(network, "core-1", "mess", "core-2/crew-gw", restore=20)
    assert back.survived and all(gap.count <= 5 for gap in back.lost if gap.first >= 20 * SECOND)


@pytest.mark.parametrize("seed", range(16))
def test_the_engines_agree_and_changes_are_what_deriving_anew_is(seed):
    random = Random(seed)
    made = acting_as_one(redundant(random), random)
    arrays = build_arrays(know(made))
    for parts in ([], broken(made, random), broken(made, random)):
        there = switched_off(know(made), parts)
        family = (None, 4, 6)[seed % 3]
        assert calculated(there, family)[0] == simulated(there, family)[0], parts
        changed, anew = matrix(change_arrays(arrays, there), causes=False), matrix(there, causes=False)
        assert list(changed.rows()) == list(anew.rows()), parts


MISTAKES = {
    "shared-alone": (", shared-with: core-1", ""),
    "shared-unlike": (
        "[crew, yard], untagged: none, shared-with: core-1",
        "[crew], untagged: none, shared-with: core-1",
    ),
    "shared-unjoined": ("p2: {trunk: [crew, yard], untagged: none}, p3", "p2: {trunk: [crew], untagged: none}, p3"),
    "shared-apart": ("members: [p1, p2]", "members: [p1]"),
}


@pytest.mark.parametrize("kind", MISTAKES)
def test_what_is_not_equal_on_both_is_named_and_its_mend_makes_it_so(kind):
    sound = read_network(AS_ONE)
    assert not [
        one for one in archipelago.audit(sound) if one.kind.startswith("shared-") or one.kind == "members-differ"
    ]
    old, new = MISTAKES[kind]
    assert AS_ONE.count(old) == 1
    text = AS_ONE.replace(old, new)
    findings = archipelago.audit(read_network(text), quick=True)
    (finding,) = [one for one in findings if one.kind == kind]
    if kind == "shared-apart":
        assert "core-1 and core-2 lead to quay/up and quay/p2" in finding.says and finding.edits == ()
        return
    mended = read_network(amend(text, finding.edits))
    assert [sorted(device.interfaces.items()) for device in mended.devices.values()] == [
        sorted(device.interfaces.items()) for device in sound.devices.values()
    ]
    assert not [one for one in archipelago.audit(mended, quick=True) if one.kind == kind]


def test_a_half_without_another_is_told_by_name():
    text = AS_ONE.replace(
        "      to-quay: {members: [p1], trunk: [crew, yard], untagged: none, shared-with: core-1}\n", ""
    )
    (finding,) = [one for one in archipelago.audit(read_network(text), quick=True) if one.kind == "shared-alone"]
    assert finding.at == "core-1" and "core-2 has no aggregate to-quay" in finding.says


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("shared-with: core-1", "shared-with: core-9", "there is no device 'core-9'"),
        ("shared-with: core-1", "shared-with: core-2", "cannot have the other half"),
        ("trunk: [crew, yard], untagged: none, shared-with: core-1", "routed: yes, shared-with: core-1", "switches"),
    ],
)
def test_a_wrong_document_is_one_message(old, new, told):
    with pytest.raises(DocumentError, match=told):
        read_network(AS_ONE.replace(old, new))


def test_the_view_says_which_half_is_in_use():
    index = index_network(read_network(AS_ONE))
    (shown,) = [one for one in tables(index) if one.title == "shared aggregates"]
    assert shown.rows == (("to-quay", "core-1", "core-2", "quay/up", "it sends there first"),)
    text = archipelago.network_text(index.network)
    assert read_network(text) == index.network and "shared-with: core-2" in text
