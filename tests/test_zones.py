"""The names of a network as zone files, read back by dnspython."""

from __future__ import annotations

import dns.reversename
import dns.zone
import pytest

import archipelago
from archipelago import DocumentError, QueryError, read_network

BAY = """format: archipelago-network/1
domain: ferry.example
vlans: {crew: 20}
devices:
  landing:
    kind: router
    interfaces: {p1.20: {parent: p1, tag: crew, address: [10.44.2.1/24, "2001:db8:44:1::1/64"]}}
    dhcp-pools:
      crew: {subnet: 10.44.2.0/24, range: 10.44.2.50, dns-server: 10.44.2.5, reservations: {purser: 10.44.2.7}}
  hall: {kind: switch, ports: {p24: {trunk: crew, untagged: none}, "p{1..4}": {access: crew}}}
hosts:
  office: {at: hall/p1, address: [10.44.2.5/24, "2001:db8:44:1::5/64"], gateway: 10.44.2.1}
  purser: {at: hall/p2, address: dhcp}
  Mess_1: {at: hall/p3, address: 10.44.2.9/24, gateway: 10.44.2.1}
  mess-1: {at: hall/p4, address: 10.44.2.8/24, gateway: 10.44.2.1}
cables: [landing/p1 ~ hall/p24]
"""


def zones(text):
    return {name: dns.zone.from_text(content) for name, content in archipelago.zones(read_network(text)).items()}


def test_every_name_leads_to_its_address_and_back():
    files = zones(BAY)
    forward = files["ferry.example.zone"]
    found = {(str(name), str(data)) for kind in ("A", "AAAA") for name, _, data in forward.iterate_rdatas(kind)}
    assert ("office", "10.44.2.5") in found and ("office", "2001:db8:44:1::5") in found
    assert ("purser", "10.44.2.7") in found  # kept for it
    assert {("mess-1", "10.44.2.9"), ("mess-1-2", "10.44.2.8"), ("landing", "10.44.2.1")} <= found
    (authority,) = forward.get_rdataset("@", "SOA")
    assert str(authority.mname) == "office"
    for label, address in found:
        pointer = dns.reversename.from_address(address)
        (zone,) = [zone for zone in files.values() if zone is not forward and pointer.is_subdomain(zone.origin)]
        (back,) = zone.get_rdataset(pointer.relativize(zone.origin), "PTR")
        named = str(back.target.derelativize(zone.origin)).removesuffix(".ferry.example.")
        assert (named, address) in found and label


def test_the_command_writes_a_file_for_each_zone(command, tmp_path):
    (file := tmp_path / "bay.yaml").write_text(BAY)
    done = command("export", file, "--as", "zone", "-o", tmp_path / "zones")
    assert done.returncode == 0 and "3 files" in done.stdout
    assert {one.name for one in (tmp_path / "zones").iterdir()} == set(zones(BAY))
    file.write_text(BAY.replace("domain: ferry.example\n", ""))
    assert command("export", file, "--as", "zone", "-o", tmp_path / "zones").returncode == 2


def test_a_domain_is_one():
    with pytest.raises(DocumentError, match="not a domain name"):
        read_network(BAY.replace("ferry.example", "Ferry Example"))
    with pytest.raises(QueryError, match="no 'domain'"):
        archipelago.zones(archipelago.Network())


def test_the_brief_s_domain_is_the_network_s():
    brief = archipelago.read_brief("format: archipelago-brief/1\nspace: 10.0.0.0/24\ndomain: ferry.example\n")
    assert archipelago.design(brief).network.domain == "ferry.example"
    assert archipelago.read_brief(archipelago.brief_text(brief)) == brief
