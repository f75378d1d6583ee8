"""Names as devices have them: ports called `24` and `1/0/24`, everywhere."""

from __future__ import annotations

import re
from random import Random

import pytest
from hypothesis import given
from hypothesis import strategies as st

import archipelago
from archipelago import DocumentError, read_network
from archipelago.model.values import NAME
from makers import designed, mixed_brief, trunked_brief
from slips_referee import slips

TEXT = """format: archipelago-network/1
vlans: {{crew: 120}}
devices:
  {device}: {{kind: switch, ports: {{"{port}": {{access: crew}}, "{port}x": {{access: crew}}}}}}
hosts:
  {host}: {{at: {device}/{port}, address: 10.44.1.10/24}}
  crane: {{at: {device}/{port}x, address: 10.44.1.11/24}}
"""


def called_otherwise(text: str) -> str:
    """A document with the ports p1, p2 called 1/0/1, 24-2 and so on."""
    return re.sub(r"\bp(\d+)\b", lambda found: ("1/0/" if int(found[1]) % 2 else "") + found[1], text)


@pytest.mark.parametrize("seed", range(12))
def test_ports_with_numbers_fare_as_others_do(seed, tmp_path):
    random = Random(seed)
    plain = designed((trunked_brief, mixed_brief)[seed % 2](random, True))
    text = called_otherwise(archipelago.network_text(plain))
    odd = read_network(text)
    assert odd != plain and read_network(archipelago.network_text(odd)) == odd
    assert list(archipelago.matrix(odd).rows()) == list(archipelago.matrix(plain).rows())
    assert [one.kind for one in archipelago.audit(odd)] == [one.kind for one in archipelago.audit(plain)]
    assert called_otherwise(archipelago.export(plain, "csv")) == archipelago.export(odd, "csv")
    listed = archipelago.read_address_list(archipelago.export(odd, "csv"))
    assert {name: host.at for name, host in listed.hosts.items()} == {name: host.at for name, host in odd.hosts.items()}
    archipelago.draw(odd, tmp_path / "odd.svg")
    links = re.findall(r"link (?:add|set)\S* .*?(?:name|dev) (\S+)", archipelago.export(odd, "linux"))
    assert links and all(re.fullmatch(r"[A-Za-z][A-Za-z0-9._@-]*", name) for name in links)
    for part in {str(odd.cables[0]), str(odd.cables[0].a)} if odd.cables else ():
        assert archipelago.matrix(odd, without=[part]).reached < archipelago.matrix(odd).reached + 1
    slip = next(slips(odd, random), None)
    if slip is not None:
        assert archipelago.mend(archipelago.network_text(slip.network)).made


NAMES = st.from_regex(r"[A-Za-z0-9][A-Za-z0-9._-]{0,20}", fullmatch=True).filter(NAME.fullmatch)
PORTS = st.from_regex(r"[A-Za-z0-9][A-Za-z0-9._-]{0,9}(/[A-Za-z0-9][A-Za-z0-9._-]{0,9}){0,3}", fullmatch=True)


@given(NAMES, PORTS, NAMES)
def test_every_name_that_is_read_is_a_name_everywhere(device, port, host):
    if len({device, host, "crane", "crew"}) < 4 or {device, host} & {"outside", "any", "all", "none"}:
        return
    network = read_network(TEXT.format(device=device, port=port, host=host))
    assert read_network(archipelago.network_text(network)) == network
    assert archipelago.reach(network, host, "crane").reached
    assert not archipelago.matrix(network, without=[f"{device}/{port}"]).reached
    assert f"{device}/{port}" in archipelago.export(network, "csv")
    assert archipelago.compare(network, network).differences == ()


@pytest.mark.parametrize("port", ["/1", "1/", "1//2", "-1", "1 0", "1~0", "é1", "x" * 64])
def test_what_is_no_name_of_a_port_is_told(port):
    with pytest.raises(DocumentError, match=r"1/0/24|not the name of a port|is not a place"):
        read_network(TEXT.format(device="quay", port=port, host="mess"))


@pytest.mark.parametrize("name", ["12", "10.44.0.1", "1-2", "_x", "a b"])
def test_a_device_is_not_called_like_a_number_or_an_address(name):
    with pytest.raises(DocumentError, match=r"a letter among them|is not a place"):
        read_network(TEXT.format(device=name, port="1", host="mess"))


def test_a_description_is_shown_where_its_part_is_and_decides_nothing(tmp_path):
    plain = TEXT.format(device="core", port="1/0/1", host="mess")
    said = plain.replace("{kind: switch,", "{kind: switch, description: 'second rack <b>',")
    said = said.replace("10.44.1.10/24}", "10.44.1.10/24, description: the purser's desk}")
    network = read_network(said)
    assert read_network(archipelago.network_text(network)) == network != read_network(plain)
    glance, desk = archipelago.view(network), archipelago.view(network, ["mess"])
    assert "second rack <b>" in str(glance) and "the purser's desk" in str(desk)
    archipelago.draw(network, tmp_path / "core.svg")
    assert "second rack &lt;b&gt;" in (tmp_path / "core.svg").read_text()
    changed = archipelago.compare(read_network(plain), network)
    assert len(changed.differences) == 2 and not changed.lost.pairs and not changed.gained.pairs
    assert list(archipelago.matrix(network).rows()) == list(archipelago.matrix(read_network(plain)).rows())
