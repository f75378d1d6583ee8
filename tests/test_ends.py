"""What can be asked about: one order of names, one message, the same in documents, questions and policies."""

from __future__ import annotations

import json
from random import Random

import pytest

import archipelago
from archipelago.errors import DocumentError, QueryError
from archipelago.knowledge.forwarding import source_towards
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import know
from archipelago.knowledge.outside import widened
from archipelago.model.ends import Kind, find
from archipelago.reachability.management import AddressAsking, own_addresses
from archipelago.reachability.policy import kinds_apart
from archipelago.reachability.walks import Question, Walks
from every_field import full_of_everything

PIER = """format: archipelago-network/1
vlans: {crew: 20, yard: 30, manage: 99}
devices:
  mast:
    kind: l3switch
    routing: [ipv4]
    ports: {up: {trunk: all}, far: {address: 10.44.9.1/24}}
    interfaces:
      crew-gw: {vlan: crew, address: 10.44.20.1/24}
      yard-gw: {vlan: yard, address: 10.44.30.1/24}
      manage-gw: {vlan: manage, address: 10.44.99.1/24}
  quay:
    kind: switch
    ports: {up: {trunk: all}, p1: {access: crew}, p2: {access: crew}, p3: {access: yard}}
    interfaces: {manage: {vlan: manage, address: 10.44.99.2/24}}
    gateway: 10.44.99.1
hosts:
  mess: {at: quay/p1, address: 10.44.20.2/24, gateway: 10.44.20.1}
  agent: {at: quay/p2, address: 10.44.20.3/24, gateway: 10.44.20.1}
  crew: {at: quay/p3, address: 10.44.30.2/24, gateway: 10.44.30.1}
cables: [mast/up ~ quay/up]
"""


@pytest.fixture
def pier(tmp_path):
    (tmp_path / "pier.yaml").write_text(PIER)
    return tmp_path / "pier.yaml"


def test_words_are_looked_up_in_one_order():
    network = archipelago.read_network(PIER)
    kinds = {
        "outside": Kind.OUTSIDE,
        "any": Kind.ANYBODY,
        "10.44.20.2": Kind.ADDRESS,
        "2001:db8::1": Kind.ADDRESS,
        "10.44.20.0/24": Kind.PREFIX,
        "mast/yard-gw": Kind.PART,
        "mess/gateway": Kind.GATEWAY,
        "crew": Kind.HOST,  # a VLAN too: hosts come first
        "20": Kind.VLAN,
        "quay": Kind.DEVICE,
        "yard": Kind.VLAN,
        "1": Kind.VLAN,
        "020": None,
        "77": None,
        "mess/up": None,
        "10.44.20.300": None,
        "nobody": None,
    }
    for word, kind in kinds.items():
        end = find(word, network)
        assert (end.kind if end else None) is kind, word


@pytest.mark.parametrize("name", ["any", "outside", "all", "none"])
@pytest.mark.parametrize(("old", "section"), [("  mess:", "host"), ("  quay:", "device"), ("yard: 30", "VLAN")])
def test_nothing_is_called_as_a_word_of_the_documents(name, old, section):
    new = old.replace("yard", name).replace("mess", name).replace("quay", name)
    with pytest.raises(DocumentError, match=f"'{name}' is a word of the documents"):
        archipelago.read_network(PIER.replace(old, new))


def test_each_kind_of_end_is_asked(command, pier):
    network = archipelago.read_network(pier)
    for target, address in (
        ("crew", "10.44.30.2"),
        ("mess/gateway", "10.44.20.1"),
        ("mast/far", "10.44.9.1"),
        ("quay", "10.44.99.2"),
        ("10.44.99.1", "10.44.99.1"),
    ):
        answer = archipelago.reach(network, "agent", target)
        assert (answer.address, answer.target) == (address, target) and (bool(answer) == (target != "mast/far"))
    # a device is asked by its address in the asker's own VLAN, else the first that is reached
    assert archipelago.reach(network, "agent", "mast").address == "10.44.20.1"
    assert archipelago.reach(network, "crew", "mast").address == "10.44.30.1"
    assert archipelago.reach(network, "quay", "mast").address == "10.44.99.1"
    off = PIER.replace("{vlan: crew, address: 10.44.20.1/24}", "{vlan: crew, address: 10.44.20.1/24, off: true}")
    assert archipelago.reach(archipelago.read_network(off), "crew", "mast").address == "10.44.30.1"
    several = archipelago.reach(network, "crew", "20")
    assert [one.target for one in several.each] == ["mess", "agent"] and several
    assert several.headline == "crew: 2 of 2 reached"
    assert [one.target for one in archipelago.reach(network, "mess", "10.44.20.0/24").each] == ["agent"]
    told = json.loads(command("reach", pier, "crew", "20", "--json").stdout)
    assert told["target"] == "mess" and [one["target"] for one in told["others"]] == ["agent"]
    done = command("reach", pier, "crew", "20", "--trace")
    assert done.returncode == 0 and done.stdout.startswith("crew: 2 of 2 answer")
    broken = archipelago.break_part(network, "quay/p1", "crew", "20")
    assert broken.target == "mess" and broken.lost


def test_what_is_no_end_is_said_in_one_way(command, pier):
    network = archipelago.read_network(pier)
    for word, said in (
        ("mes", "'mes' is nothing in this network; did you mean 'mess'"),
        ("4095", "VLAN ids go from 1 to 4094"),
        ("55", "no VLAN has that id"),
        ("any", "'any' is every host and the outside, which is no end here"),
        ("quay/p9", "'quay' has no interface 'p9'; it has: manage"),
        ("30", ""),
    ):
        if said:
            with pytest.raises(QueryError) as wrong:
                archipelago.reach(network, "mess", word)
            assert said in str(wrong.value)
            assert command("reach", pier, "mess", word).stderr.count("\n") == 1
    with pytest.raises(QueryError, match="is a VLAN"):
        archipelago.reach(network, "yard", "mess")
    for key in ("expect: [{from: mes, to: agent, reached: yes}]", "traffic: [{from: mess, to: mes, rate: 1M}]"):
        with pytest.raises(DocumentError, match="'mes' is nothing in this network; did you mean 'mess'"):
            archipelago.read_network(f"{PIER}{key}\n")


def test_devices_make_checks_and_changes_too(command, pier, tmp_path):
    done = command("reach", pier, "quay", "--in-order")
    assert done.returncode == 0 and "its gateway: 10.44.99.1" in done.stdout
    (tmp_path / "new.yaml").write_text(PIER.replace("10.44.30.1/24", "10.44.30.9/24"))
    done = command("change", pier, tmp_path / "new.yaml", "--from", "quay")
    assert done.returncode == 0 and "quay is never locked out" in done.stdout
    wrong = command("change", pier, tmp_path / "new.yaml", "--from", "20")
    assert wrong.returncode == 2 and "in the old network '20' is a VLAN" in wrong.stderr


def test_devices_and_interfaces_are_ends_of_expectations():
    lines = [("quay", "mess", True), ("mast/yard-gw", "20", True), ("yard", "quay", True), ("mast", "10.44.99.2", True)]
    verdicts = archipelago.expectations(archipelago.read_network(PIER), lines)
    assert all(verdicts) and [one.pairs for one in verdicts] == [1, 2, 1, 1]


@pytest.mark.parametrize("seed", range(8))
def test_many_questions_about_devices_are_answered_as_each_alone(seed):
    index = NetworkIndex(widened(know(full_of_everything(Random(seed)))))
    network, probes = index.network, kinds_apart(index.network)[:5]
    hosts = list(network.hosts)[:12]
    single = AddressAsking(index, hosts)
    for version in (4, 6):
        questions = [
            Question(host, source, name, address)
            for host in hosts
            for nic in index.knowledge.nodes[host].nics.values()
            for source in [own.address for own in nic.addresses]
            for name in network.devices
            for _, address in own_addresses(network, name, version)
            if source.version == version
        ][:300]
        many = Walks(index, version, probes).ask(questions)
        for number, (host, source, name, address, _) in enumerate(questions):
            if many.unclear[number] or source_towards(index.knowledge.state(host), address) != source:
                continue
            for kind, probe in enumerate(probes):
                alone = single.reaches(host, name, address, probe)
                assert (many.reached[number, kind], many.cut[number, kind]) == alone, (host, name, address, probe)


def test_a_question_supposes_a_host_elsewhere_and_parts_off(command, pier):
    network = archipelago.read_network(PIER)
    host = network.hosts["mess"]
    free = f"{host.at.device}/p77"
    moved = archipelago.reach(network, "mess", "agent", move=[f"mess={free}"])
    assert moved.reached != archipelago.reach(network, "mess", "agent").reached  # the port there is in VLAN 1
    assert archipelago.matrix(network, move=[f"mess={free}"]).reached < archipelago.matrix(network).reached
    off = archipelago.reach(network, "mess", "agent", without=["agent"])
    assert not off.reached and off.mend == "switched off for this question (--without agent)" and not off.edits
    assert network.hosts["mess"] is host
    for word in ("nobody=quay/p1", "mess", f"mess={network.hosts['agent'].at}"):
        done = command("reach", pier, "mess", "agent", "--move", word)
        assert done.returncode == 2 and ("moves no host" in done.stderr or "nothing can be plugged in" in done.stderr)
    assert command("reach", pier, "mess", "--in-order", "--move", f"mess={free}").returncode == 2
    assert command("matrix", pier, "--move", f"mess={free}").returncode == 1
