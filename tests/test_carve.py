"""Carving: what is given is large enough, aligned, apart, and best fit."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from archipelago import AddressError, CarveError, carve
from archipelago.addressing.carve import Need, addresses_needed
from archipelago.addressing.carve import carve as carve_needs
from archipelago.addressing.convention import GatewayConvention
from archipelago.addressing.free import aligned, gaps
from archipelago.addressing.values import Address, Prefix, parse_address, parse_interface_address, parse_prefix

CONVENTIONS = st.sampled_from(
    [GatewayConvention("first", 1), GatewayConvention("last", -1), GatewayConvention("+2", 2)]
)


@given(
    hosts=st.lists(st.integers(0, 300), min_size=1, max_size=30),
    headroom=st.sampled_from([Fraction(0), Fraction(1, 4), Fraction(1)]),
    convention=CONVENTIONS,
    by_vlan_id=st.booleans(),
    pins=st.sets(st.integers(0, 60), max_size=4),
)
def test_subnets_hold_what_is_asked_and_never_overlap(hosts, headroom, convention, by_vlan_id, pins):
    spaces = [parse_prefix("10.44.0.0/16"), parse_prefix("198.51.100.0/24")]
    reserved = [parse_prefix("10.44.128.0/20")]
    needs = [Need(f"vlan-{i}", count, 110 + i) for i, count in enumerate(hosts)]
    needs += [Need(f"pin-{i}", 5, 2000 + i, pinned=(parse_prefix(f"10.44.{i}.0/26"),)) for i in sorted(pins)]
    carving = carve_needs(
        spaces, needs, reserved=reserved, headroom=headroom, gateway=convention, by_vlan_id=by_vlan_id
    )
    assert [one.name for one in carving.allotments] == [need.name for need in needs]
    blocks = [one.prefix for one in carving.allotments]
    for index, block in enumerate(blocks):
        assert not any(block.overlaps(other) for other in blocks[index + 1 :] + reserved)
        assert any(space.covers(block) for space in spaces)
        assert block.value % block.size == 0
    for one, need in zip(carving.allotments, needs, strict=True):
        assert one.usable >= addresses_needed(need, headroom) or need.pinned
        assert one.first <= one.gateway <= one.last
        if not need.pinned and one.reason == "by size" and one.prefix.length < 30:
            assert (one.usable + 2) // 2 - 2 < addresses_needed(need, headroom)  # half the size would not do
        if one.reason == "VLAN id readable":
            assert str(one.vlan_id) in str(one.prefix)
        for low, high in filter(None, (one.static, one.leases)):
            assert one.first <= low <= high <= one.last and not low <= one.gateway <= high
    total = sum(block.size for block in [*blocks, *reserved, *carving.free])
    assert total == sum(space.size for space in spaces)


@given(first=st.integers(0, 2**16), count=st.integers(1, 2**12))
def test_aligned_blocks_make_up_the_range(first, count):
    blocks = list(aligned(4, first, first + count - 1))
    assert sum(block.size for block in blocks) == count
    assert all(block.value % block.size == 0 for block in blocks)
    assert [block.value for block in blocks] == [first + sum(b.size for b in blocks[:i]) for i in range(len(blocks))]


def test_gaps_are_what_is_left():
    left = gaps([parse_prefix("10.44.0.0/24")], [parse_prefix("10.44.0.64/26"), parse_prefix("10.44.0.64/27")])
    assert [str(block) for block in left] == ["10.44.0.0/26", "10.44.0.128/25"]


def test_shortage_names_need_amount_block_and_remedy():
    with pytest.raises(CarveError) as caught:
        carve("10.44.0.0/24", {"crew": 110, "tickets": 60}, pins={"crew": "10.44.0.0/24"})
    text = str(caught.value)
    assert "'tickets'" in text and "128" in text and "nothing is free" in text and "10.44.0.0/23" in text


def test_contradictions_are_reported_together():
    with pytest.raises(CarveError) as caught:
        carve(
            "10.44.0.0/16",
            {"crew": 5, "yard": 5, "deck": 5},
            pins={"crew": "10.44.1.0/24", "yard": "10.44.1.128/25"},
            ids={"crew": 210, "deck": 210},
        )
    assert len(caught.value.reasons) == 2
    assert any("overlaps" in reason for reason in caught.value.reasons)
    assert any("210" in reason for reason in caught.value.reasons)


@pytest.mark.parametrize(
    ("convention", "gateway"),
    [("first", "10.44.0.1"), ("last", "10.44.0.62"), ("+5", "10.44.0.5"), ("-3", "10.44.0.60")],
)
def test_gateway_conventions(convention, gateway):
    row = carve("10.44.0.0/24", {"tickets": 45}, gateway=convention).allotments[0]
    assert (str(row.prefix), str(row.gateway), str(row.broadcast)) == ("10.44.0.0/26", gateway, "10.44.0.63")
    assert (row.usable, row.hosts, row.needed, row.spare) == (62, 45, 58, 4)


def test_gateway_outside_its_subnet_is_refused():
    with pytest.raises(CarveError, match="outside the usable"):
        carve("10.44.0.0/24", {"yard": 3}, gateway="+99")


def test_both_families_with_readable_ids():
    rows = carve(["10.44.0.0/16", "2001:db8:44::/48"], {"crew": 20}, ids={"crew": 220}, by_vlan_id=True).allotments
    assert [str(row.prefix) for row in rows] == ["10.44.220.0/27", "2001:db8:44:220::/64"]


@pytest.mark.parametrize(
    "text", ["10.44.0.0/33", "10.44.0.1/24", "10.44.0/24", "", "::/129", "10.44.0.0/x", "010.1.1.0/24"]
)
def test_what_is_not_a_prefix_is_refused(text):
    with pytest.raises(AddressError):
        parse_prefix(text)


@given(version=st.sampled_from([4, 6]), data=st.data())
def test_values_read_back_as_written(version, data):
    width = {4: 32, 6: 128}[version]
    address = Address(version, data.draw(st.integers(0, 2**width - 1)))
    assert parse_address(str(address)) == address
    held = parse_interface_address(f"{address}/{data.draw(st.integers(0, width))}")
    assert held.prefix.holds(address)
    assert parse_prefix(str(held.prefix)) == held.prefix
    low, high = held.prefix.usable()
    assert held.prefix.value <= low <= high <= held.prefix.last


def test_transit_prefixes_have_no_unusable_ends():
    assert Prefix(4, 10 << 24, 31).usable() == (10 << 24, (10 << 24) + 1)  # RFC 3021
    assert Prefix(6, 0, 127).usable() == (0, 1)  # RFC 6164
