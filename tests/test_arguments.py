"""Wrong arguments of every public call: one family of errors that says what is accepted, and nothing else."""

from __future__ import annotations

import inspect
import math
from fractions import Fraction

import pytest

import archipelago
from archipelago.api.arguments import RANGES

PIER = """format: archipelago-network/1
vlans: {crew: 120}
devices:
  landing: {kind: router, ports: {p1: {address: 10.44.1.1/24}}}
  quay: {kind: switch, ports: {p1: {access: crew}, p2: {access: crew}, p3: {access: crew}}}
hosts:
  mess: {at: quay/p1, address: 10.44.1.10/24, gateway: 10.44.1.1}
  purser: {at: quay/p2, address: 10.44.1.11/24, gateway: 10.44.1.1}
cables: [landing/p1 ~ quay/p3]
"""
BRIEF = """format: archipelago-brief/1
space: 10.44.0.0/20
vlans: {crew: {id: 120, hosts: 5}}
devices: {landing: {kind: router, ports: 2}, quay: {kind: switch, ports: 4}}
gateways: [{for: crew, at: landing/p1}]
cables: [landing/p1 ~ quay/p4]
"""
RECIPE = "format: archipelago-recipe/1\nrenumber: [{vlan: crew, subnet: 10.44.8.0/24}]\n"
CALLS = {
    name: call
    for name in archipelago.__all__
    if inspect.isfunction(call := getattr(archipelago, name)) and call.__module__.startswith("archipelago.api")
}
ODD = [
    None,
    True,
    0,
    -1,
    5,
    10**30,
    1.5,
    math.inf,
    -math.inf,
    math.nan,
    Fraction(1, 3),
    2j,
    "",
    "nobody",
    "a\0b",
    b"mess",
]
ODD += [[], [3], ["nobody"], {}, {"mess": object()}, (1, 2, 3), object(), archipelago.Network]


def given(folder):
    """An argument of each name that is right wherever it is taken."""
    network, brief = archipelago.read_network(PIER), archipelago.read_brief(BRIEF)
    file = folder / "pier.yaml"
    file.write_text(PIER)
    return {
        **dict.fromkeys(("network", "old", "new", "what"), network),
        **dict.fromkeys(("source", "host", "name"), "mess"),
        **dict.fromkeys(("document", "path", "directory"), file),
        "brief": brief,
        "design": archipelago.design(brief),
        "target": "purser",
        "part": "quay",
        "parts": ["quay"],
        "step": archipelago.change(network, archipelago.read_network(PIER.replace("1.11", "1.12")), "mess").steps[0],
        "recipe": archipelago.read_recipe(RECIPE, network),
        "space": "10.44.0.0/20",
        "needs": {"crew": 5},
        "edits": [],
        "kind": "network",
        "why": "because",
        "result": archipelago.matrix(network),
    }


@pytest.mark.parametrize(
    "call", [pytest.param(call, marks=[pytest.mark.long] * (call == "rehearse")) for call in CALLS]
)
def test_odd_arguments_are_refused_or_taken(call, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    right = given(tmp_path)
    for name, parameter in inspect.signature(CALLS[call]).parameters.items():
        needed = {
            other: right[other]
            for other, one in inspect.signature(CALLS[call]).parameters.items()
            if one.default is inspect.Parameter.empty
        }
        for odd in ODD:
            try:
                found = CALLS[call](**{**needed, name: odd})
                if inspect.isgenerator(found):
                    list(found)
            except archipelago.ArchipelagoError as error:
                assert str(error)
            except AssertionError:
                assert call == "assert_expected"
        if parameter.annotation not in ("object", "Axes | None"):
            with pytest.raises(archipelago.ArgumentError, match=f"'{name}' takes "):
                CALLS[call](**{**needed, name: object()})


def test_what_is_accepted_is_said():
    network = archipelago.read_network(PIER)
    with pytest.raises(archipelago.ArgumentError, match="'family' takes 4 or 6 or None, not 5"):
        archipelago.matrix(network, family=5)
    with pytest.raises(archipelago.ArgumentError, match="'probes' takes a whole number, 1 to 1,000,000, not 0"):
        archipelago.reach(network, "mess", "purser", probes=0)
    with pytest.raises(TypeError, match="read it first"):
        archipelago.audit("pier.yaml")
    with pytest.raises(ValueError, match="'seconds' takes a number, more than 0, not inf"):
        archipelago.rehearse(network, seconds=math.inf)
    with pytest.raises(archipelago.ModelError, match="toaster"):
        archipelago.Network(devices={"slip": archipelago.Device("slip", "toaster")})
    named = {name for call in CALLS.values() for name in inspect.signature(call).parameters}
    assert set(RANGES) <= named


def test_a_lone_name_is_a_list_of_one_and_a_document_is_a_path_a_file_a_text_or_a_network(tmp_path):
    network = archipelago.read_network(PIER)
    assert str(archipelago.matrix(network, without="landing")) == str(archipelago.matrix(network, without=["landing"]))
    assert str(archipelago.view(network, "quay")) == str(archipelago.view(network, ["quay"]))
    broken = PIER.replace("p2: {access: crew}", "p2: {}")
    (tmp_path / "broken.yaml").write_text(broken)
    edit = archipelago.Edit(("title",), "Pier")
    with open(tmp_path / "broken.yaml", "rb") as file:
        documents = [broken, tmp_path / "broken.yaml", str(tmp_path / "broken.yaml"), archipelago.read_network(broken)]
        mended = [archipelago.mend(document).network for document in (*documents, file)]
    assert mended == [mended[0]] * 5
    assert all("title: Pier" in archipelago.amend(document, [edit]) for document in documents)
