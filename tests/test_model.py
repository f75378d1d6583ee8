"""Networks and briefs built in Python; the declared keys; the public surface."""

from __future__ import annotations

import doctest
import importlib
import inspect
import io
import subprocess
import sys
from pathlib import Path
from random import Random

import jsonschema
import pytest
from matplotlib.figure import Figure

import archipelago
from archipelago import Cable, Device, End, Host, InterfaceAddress, ModelError, Network, NextHop, Port, Prefix, Route
from archipelago.files.schema import schema
from archipelago.files.tree import parse
from archipelago.model.key import Holder
from archipelago.model.keys import KEYS, keys_of
from makers import scrambled
from test_documents import GOOD

ROOT = Path(__file__).resolve().parent.parent


def address(text: str) -> InterfaceAddress:
    from archipelago.addressing.values import parse_interface_address

    return parse_interface_address(text)


def quay(**more):
    return Device("quay", "switch", ports={"p1": Port("p1", **more)})


@pytest.mark.parametrize(
    ("parts", "told"),
    [
        ({"cables": (Cable(End("a", "p1"), End("b", "p1")),)}, "there is no device 'a'"),
        (
            {
                "devices": {"quay": quay()},
                "hosts": {name: Host(name, End("quay", "p1"), (address("10.44.0.2/24"),)) for name in ("a", "b")},
            },
            "port quay/p1 is used twice (first by host a)",
        ),
        ({"devices": {"quay": quay(access=220)}}, "there is no VLAN '220'"),
        ({"devices": {"quay": quay(access=5000)}}, "5000 is not a VLAN"),
        ({"devices": {"quay": quay(speed=-1)}}, "-1 is not a speed"),
        ({"devices": {"core": Device("core", "l3switch")}}, "lacks the key 'routing'"),
        ({"devices": {"pier": Device("quay", "switch")}}, "'pier' stands for what is called 'quay'"),
        ({"vlans": {"crew": 220, "mail": 220}}, "VLAN id 220 is 'crew' already"),
        ({"devices": {"quay": Device("quay", "bridge")}}, "'bridge' is not a kind of device"),
        (
            {
                "devices": {
                    "r": Device(
                        "r", "router", routes=(Route(Prefix(4, 0, 0), NextHop(address("2001:db8::1/64").address)),)
                    )
                }
            },
            "is not of the family of 0.0.0.0/0",
        ),
    ],
)
def test_what_no_file_could_say_cannot_be_built(parts, told):
    with pytest.raises(ModelError) as raised:
        Network(**parts)
    assert told in str(raised.value) and raised.value.problems


def test_all_problems_come_in_one_error():
    with pytest.raises(ModelError) as raised:
        Network(vlans={"all": 220}, cables=(Cable(End("a", "p1"), End("b", "p1")),))
    assert len(raised.value.problems) == 3


def test_a_brief_is_held_to_its_rules_too():
    with pytest.raises(ModelError, match="there is no device 'landing'"):
        archipelago.Brief(gateways=(archipelago.GatewayPlace((), "landing", "p1"),))


def test_every_key_is_declared_once_for_each_holder():
    for holder in Holder:
        names = [key.name for key in keys_of(holder)]
        assert len(names) == len(set(names)) and all(key.about for key in KEYS)


@pytest.mark.parametrize("seed", range(20))
def test_the_schema_takes_what_the_reader_takes(seed):
    network = scrambled(Random(seed), anything=True)
    check = jsonschema.Draft202012Validator(schema("network"))
    assert not list(check.iter_errors(parse(archipelago.network_text(network).encode(), "text").value))


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("access: tickets", "acces: tickets"),
        ("kind: switch", "kind: swich"),
        ("10.44.0.1/26", "10.44.0.1"),
        ("tickets: 210", "tickets: harbour"),
        ("off: true}\n      up", "off: maybe}\n      up"),
        ("{destination: 0.0.0.0/0, ", "{"),
        ("speed: 1G", "speed: fast"),
        ("landing/p1 ~ quay-1/p24", "landing/p1 - quay-1/p24"),
        ("format: archipelago-network/1", "format: other/9"),
    ],
)
def test_the_schema_refuses_what_the_reader_refuses(old, new):
    check = jsonschema.Draft202012Validator(schema("network"))
    assert not list(check.iter_errors(parse(GOOD.encode(), "good").value)) and old in GOOD
    assert list(check.iter_errors(parse(GOOD.replace(old, new, 1).encode(), "bad").value))


def test_docs_are_made_from_the_declarations():
    sys.path.insert(0, str(ROOT / "scripts"))
    docs = importlib.import_module("write_docs")
    page = (ROOT / "docs" / "documents.md").read_text()
    assert docs.documents_page(page) == page
    assert docs.answers_page() == (ROOT / "docs" / "json.md").read_text()
    assert docs.library_page() == (ROOT / "docs" / "library.md").read_text()


@pytest.mark.long
def test_the_page_of_findings_is_made_from_the_kinds():
    sys.path.insert(0, str(ROOT / "scripts"))
    docs = importlib.import_module("write_docs")
    assert docs.findings_page() == (ROOT / "docs" / "findings.md").read_text()


def test_documents_are_read_from_paths_files_and_texts(tmp_path):
    (tmp_path / "bay.yaml").write_text(GOOD)
    network = archipelago.read_network(tmp_path / "bay.yaml")
    assert network == archipelago.read_network(GOOD) == archipelago.read_network(io.StringIO(GOOD))
    with open(tmp_path / "bay.yaml", "rb") as file:
        assert archipelago.read_network(file) == network
    assert repr(network).count("\n") == 0 and len(repr(network)) < 120
    assert repr(network.hosts["kiosk-a"].addresses[0]) == "InterfaceAddress('10.44.0.10/26')"


def test_a_wrong_argument_says_so():
    for call in (archipelago.audit, archipelago.matrix, archipelago.view, archipelago.export):
        with pytest.raises(TypeError, match=r"read_network"):
            call("network.yaml")
    with pytest.raises(TypeError, match="read_brief"):
        archipelago.design("brief.yaml")


def test_results_print_well_and_become_json_and_tables():
    network = archipelago.read_network(GOOD)
    results = [archipelago.audit(network), archipelago.matrix(network), archipelago.view(network, ["quay-1"])]
    results += [archipelago.reach(network, "kiosk-a", "landing"), archipelago.trace(network, "kiosk-a", "landing")]
    results += [archipelago.broadcast(network, "kiosk-a"), archipelago.mend(GOOD)]
    for one in results:
        assert str(one) and "object at" not in str(one) and len(repr(one)) < 300, one
        assert archipelago.to_json(one) is not None
    assert archipelago.matrix(network)["kiosk-a", "kiosk-a"] in (True, False)
    rows = archipelago.view(network, ["landing"]).tables()[1].records()
    assert {row["tag"] for row in rows} >= {210, 220}
    assert not archipelago.to_table(archipelago.view(network).tables()[0]).empty
    axes = Figure().add_subplot()
    archipelago.draw(network, axes=axes)
    assert axes.texts
    archipelago.draw(archipelago.matrix(network), axes=Figure().add_subplot())


def test_the_public_calls_show_how_they_are_used():
    examples = ROOT / "examples"
    given = {
        "archipelago": archipelago,
        "network": archipelago.read_network(examples / "slipway-network.yaml"),
        "brief": archipelago.read_brief(examples / "slipway-brief.yaml"),
    }
    api = (f"api.{name}" for name in ("reading", "planning", "asking", "checking", "showing", "loading", "drawing"))
    for name in (*api, "addressing.values", "files.codecs"):
        assert not doctest.testmod(importlib.import_module(f"archipelago.{name}"), extraglobs=given).failed
    for call in (getattr(archipelago, name) for name in archipelago.__all__):
        if inspect.isfunction(call):
            assert "Args:" in call.__doc__ and ">>>" in call.__doc__, call
            assert "Returns:" in call.__doc__ or call.__annotations__["return"] == "None", call
            assert "Any" not in call.__annotations__.values(), call


def test_the_package_is_a_command_and_its_rooms_import():
    done = subprocess.run(
        [sys.executable, "-m", "archipelago", "--version"], capture_output=True, text=True, check=True
    )
    assert done.stdout.startswith("archipelago ")
    code = "import archipelago.audit.registry; import archipelago; archipelago.audit(archipelago.Network())"
    subprocess.run([sys.executable, "-c", code], check=True)
    assert set(dir(archipelago)) == set(archipelago.__all__)
    assert all(getattr(archipelago, name) is not None for name in archipelago.__all__)


def test_what_holds_nothing_is_not_written():
    assert archipelago.network_text(archipelago.Network(devices={}, hosts={}, vlans={})) == (
        "format: archipelago-network/1\n"
    )
    device = archipelago.Device("quay", "switch", ports={}, interfaces={}, filters={}, dhcp_pools={})
    text = archipelago.network_text(archipelago.Network(devices={"quay": device}))
    assert text.count("{") == text.count("quay") == 1 and "kind: switch" in text
