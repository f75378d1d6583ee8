"""Documents: read whole or refused with every problem; written so that they read back equal; edited in place."""

from __future__ import annotations

import pickle
from collections.abc import Iterator, Mapping
from copy import deepcopy
from dataclasses import fields, is_dataclass
from random import Random

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from archipelago import DocumentError, amend, network_text, read_brief, read_network, write_network
from archipelago.files.network import network_from
from archipelago.files.tree import LARGEST, parse
from archipelago.model.finding import REMOVE, Edit
from every_field import full_of_everything
from makers import designed, mistakes, mixed_brief, trunked_brief

GOOD = """\
format: archipelago-network/1
title: Tern Bay   # the terminal
vlans: {tickets: 210, crew: 220, on: 230}
devices:
  landing:
    kind: router
    ports:
      p1: {speed: 1G}
      p2: {address: 203.0.113.2/30}
    interfaces:
      p1.210: {parent: p1, tag: tickets, address: 10.44.0.1/26}
      p1.220: {parent: p1, tag: crew, address: [10.44.1.1/25, 2001:db8:44:220::1/64]}
    routes:
      - {destination: 0.0.0.0/0, next-hop: 203.0.113.1}
  core:
    kind: l3switch
    routing: [ipv4]
    vlans: [crew]
    ports:
      p2: {trunk: [crew, "on"], untagged: none}
      p3: {routed: true}
    interfaces:
      crew-gw: {vlan: crew, address: 10.44.2.1/26, off: true}
      up: {members: [p4, p5], address: 10.44.15.2/31}
      self: {loopback: true, address: 10.44.255.1/32}
  quay-1:
    kind: switch
    ports:
      p1: {access: tickets}
      p24: {trunk: all}
    gateway: 10.44.1.1
hosts:
  kiosk-a: {at: quay-1/p1, address: 10.44.0.10/26, gateway: 10.44.0.1}
cables:
  - landing/p1 ~ quay-1/p24
  - {ends: core/p2 ~ quay-1/p23, off: true}
"""


def read(text: str | bytes):
    return network_from(parse(text.encode() if isinstance(text, str) else text, "bay.yaml"))


def problems(text: str | bytes) -> list[str]:
    with pytest.raises(DocumentError) as caught:
        read(text)
    return caught.value.lines()


def test_a_network_reads_and_reads_back_equal():
    network = read(GOOD)
    assert network.vlans == {"tickets": 210, "crew": 220, "on": 230}  # scalars stay text until their field's type
    assert network.devices["core"].ports["p2"].trunk == (220, 230)
    assert read(network_text(network)) == network


@given(random=st.randoms(use_true_random=False), kind=st.sampled_from([trunked_brief, mixed_brief]))
def test_any_designed_network_reads_back_equal(random, kind):
    network = designed(kind(random))
    assert read(network_text(network)) == network


@pytest.mark.parametrize(
    ("old", "new", "line", "told"),
    [
        ("access: tickets", "acces: tickets", 29, "did you mean 'access'"),
        ("kind: switch", "kind: swich", 27, "accepted: router, l3switch, switch"),
        ("tag: crew", "tag: crw", 12, "did you mean 'crew'"),
        ("10.44.0.1/26", "10.44.0.1", 11, "prefix length"),
        ("10.44.0.1/26", "10.44.0.300/26", 11, "not an address"),
        ("- landing/p1 ~", "- landingg/p1 ~", 35, "did you mean 'landing'"),
        ("landing/p1 ~ quay-1/p24", "landing/p1 - quay-1/p24", 35, "DEVICE/PORT ~ DEVICE/PORT"),
        ("parent: p1, tag: tickets", "parent: p9, tag: tickets", 11, "no port or aggregate 'p9'"),
        ("tickets: 210", "tickets: 4095", 3, "1 to 4094"),
        ("crew: 220", "crew: 210", 3, "VLAN id 210"),
        ("off: true}\n      up", "off: maybe}\n      up", 23, "neither true nor false"),
        ("    routing: [ipv4]\n", "", 15, "lacks the key 'routing'"),
        ("speed: 1G", "speed: fast", 8, "1G"),
        ("at: quay-1/p1,", "at: quay-1/p24,", 33, "used twice"),
        ("next-hop: 203.0.113.1", "next-hop: fe80::1", 14, "family"),
        ("p1: {speed: 1G}", "p1: {access: crew}", 8, "router's port"),
        ("kiosk-a:", "landing:", 33, "a device too"),
        ("{members: [p4, p5],", "{members: [p4, p5], tag: crew,", 24, "'tag' does not go with 'members'"),
        ("{vlan: crew,", "{vlan: crew, parent: p3,", 23, "has parent and vlan"),
        ("format: archipelago-network/1", "format: other/9", 1, "archipelago-network/1"),
        ("kiosk-a: {at", "-kiosk: {at", 33, "is not a name"),
    ],
)
def test_each_problem_has_its_line_and_remedy(old, new, line, told):
    assert GOOD.count(old) >= 1
    found = problems(GOOD.replace(old, new, 1))
    assert any(text.startswith(f"bay.yaml:{line}:") and told in text for text in found), found


def test_all_problems_of_a_file_are_told_together():
    bad = (
        GOOD.replace("tag: crew", "tag: crw")
        .replace("kind: switch", "kind: swich")
        .replace("landing/p1 ~", "lnding/p1 ~")
    )
    found = problems(bad.replace("speed: 1G", "sped: 1G"))
    assert len(found) == 4 and found == sorted(found, key=lambda text: int(text.split(":")[1]))


@pytest.mark.parametrize(
    ("content", "told"),
    [
        (b"a: &a [x,x,x,x,x,x,x,x,x,x]\n" + b"".join(
            b"%c: &%c [%s]\n" % (98 + i, 98 + i, b",".join([b"*%c" % (97 + i)] * 10)) for i in range(9)), "aliases"),
        (b"[" * 1_000_000, "nested"),
        (b"{a: " * 100_000, "nested"),
        (b"format: x\n\tdevices: 1\n", "tab"),
        ("format: x".encode("utf-16"), "UTF-8"),
        (b"format: \x00", "binary"),
        (b"format: a\x01b\n", "control character"),
        (b"", "empty"),
        (b"- a\n", "not a mapping"),
        (b"a: 1\n---\nb: 2\n", "second document"),
        (b"a: &a [*a]", "stands for nothing"),
        (b"x" * (LARGEST + 1), "at most"),
        (b"vlans: {a: 1, a: 2}\n", "written twice"),
        (b"a: 'open\n", "not YAML"),
    ],
    ids=lambda value: value if isinstance(value, str) else "",
)  # fmt: skip
def test_hostile_files_end_in_one_clear_error(content, told):
    assert any(told in text for text in problems(content))


def test_a_missing_file_and_a_directory(tmp_path):
    for path in (tmp_path / "none.yaml", tmp_path):
        with pytest.raises(DocumentError):
            read_network(path)
        with pytest.raises(DocumentError):
            read_brief(path)


def test_writing_is_whole_or_not_at_all(tmp_path):
    network = read(GOOD)
    write_network(network, tmp_path / "bay.yaml")
    assert read_network(tmp_path / "bay.yaml") == network
    with pytest.raises(DocumentError):
        write_network(network, tmp_path / "none" / "bay.yaml")
    assert [path.name for path in tmp_path.iterdir()] == ["bay.yaml"]


@pytest.mark.parametrize(
    ("edit", "gone", "come"),
    [
        (Edit(("devices", "quay-1", "ports", "p1", "access"), "crew"), "p1: {access: tickets}", "p1: {access: crew}"),
        (Edit(("devices", "core", "ports", "p2", "trunk", "+"), "tickets"), '"on"]', '"on", tickets]'),
        (Edit(("devices", "quay-1", "vlans", "+"), "crew"), "", "vlans: [crew]"),
        (
            Edit(("devices", "landing", "routes", "+"), {"destination": "10.44.9.0/24", "next-hop": "10.44.1.9"}),
            "",
            "- {destination: 10.44.9.0/24",
        ),
        (Edit(("hosts", "kiosk-a", "gateway"), REMOVE), ", gateway: 10.44.0.1}", "/26}"),
        (Edit(("cables", 0), REMOVE), "  - landing/p1 ~ quay-1/p24\n", ""),
        (Edit(("devices", "landing", "interfaces", "p1.210"), REMOVE), "p1.210", ""),
    ],
)
def test_edits_touch_only_what_they_name(edit, gone, come):
    text = amend(GOOD, [edit])
    assert come in text and (not gone or gone not in text)
    kept = [line for line in GOOD.splitlines() if line not in text.splitlines()]
    assert len(kept) <= 1  # one line changed, all others as they were
    assert "# the terminal" in text


@given(random=st.randoms(use_true_random=False))
def test_edited_networks_still_read(random):
    network = designed(mixed_brief(random))
    text = network_text(network)
    for _, edits, _ in mistakes(network, Random(random.random())):
        assert read(amend(text, edits)) != network


@pytest.mark.parametrize("seed", range(12))
def test_what_is_read_is_frozen_all_the_way(seed):
    """Also where a list is there and empty."""
    network = read_network(emptied(network_text(full_of_everything(Random(seed)))))
    assert [*thawed(network)] == []
    for parts in (network.devices, network.hosts, network.vlans):
        with pytest.raises(TypeError, match="make another"):
            parts["nobody"] = 1
        with pytest.raises(TypeError):
            parts.pop("nobody", None)
    assert pickle.loads(pickle.dumps(network)) == deepcopy(network) == network


def emptied(text: str) -> str:
    """A network document with every list of a device's parts there, and empty where nothing was said."""
    tree = yaml.load(text, yaml.BaseLoader)  # every value as it is written: 'off' stays a word
    for device in tree["devices"].values():
        if device["kind"] == "l3switch":
            device.setdefault("routes", [])
            device.setdefault("gateway", [])
        for part in device.get("interfaces", {}).values():
            if "vlan" in part:
                part.setdefault("virtual", [])
                part.setdefault("dhcp-relay", [])
                part.setdefault("address", [])
    return yaml.safe_dump({"expect": [], "traffic": [], **tree}, sort_keys=False)


def thawed(value: object, path: str = "") -> Iterator[str]:
    """The places within a value that could be changed."""
    if type(value) in (list, dict, set):
        yield path
    elif is_dataclass(value):
        for field in (field for field in fields(value) if field.compare):
            yield from thawed(getattr(value, field.name), f"{path}.{field.name}")
    elif isinstance(value, (tuple, frozenset, Mapping)):
        within = value.items() if isinstance(value, Mapping) else enumerate(value)
        for key, part in within:
            yield from thawed(part, f"{path}.{key}")
