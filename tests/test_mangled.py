"""Documents mangled at random: each is refused in the family of errors, or every question about it is answered."""

from __future__ import annotations

import copy
from importlib.resources import files
from random import Random
from typing import Any

import pytest
import yaml

import archipelago
from archipelago import errors
from archipelago.knowledge.index import index_network
from archipelago.views.draw import diagram
from makers import scrambled

ODD: tuple[Any, ...] = (
    *(
        "",
        "none",
        "all",
        "~",
        "{",
        "p{1..3}",
        "h{1..2,9}",
        "10.44.0.1",
        "10.44.0.1/24",
        "10.44.0.0/33",
        "::/0",
        "fe80::1",
    ),
    *(
        "0000000011234",
        "9" * 5000,
        "-1",
        "4095",
        "quay/p1 ~ quay/p1",
        "quay\x1b[31m",
        "line\nbreak",
        "\u2028",
        "\ud83d\udea2",
    ),
    *(True, None, 0, 1, 4094, 1.5, [], {}, [[]], {"off": True}, {"address": "10.44.0.1/24"}),
)
"""Values that stand where something else is expected."""


def places(value: Any, into: list[tuple[Any, Any]] | None = None) -> list[tuple[Any, Any]]:
    """Every mapping and list of a document with each of its keys or positions."""
    into = [] if into is None else into
    keys = list(value) if isinstance(value, dict) else range(len(value)) if isinstance(value, list) else ()
    for key in keys:
        into.append((value, key))
        places(value[key], into)
    return into


def mangled(document: Any, random: Random) -> Any:
    """A document with some of its parts deleted, doubled, exchanged, renamed or replaced by odd values."""
    document = copy.deepcopy(document)
    for _ in range(random.choice((1, 1, 1, 2, 4))):
        found = places(document)
        if not found:
            break
        holder, key = random.choice(found)
        other, other_key = random.choice(found)
        what = random.randrange(6)
        if what == 0:
            del holder[key]
        elif what == 1 and isinstance(holder, list):
            holder.append(copy.deepcopy(holder[key]))
        elif what == 1:
            holder[f"{key}-again"] = copy.deepcopy(holder[key])
        elif what == 2:
            holder[key] = copy.deepcopy(other[other_key])
        elif what == 3 and isinstance(holder, dict):
            new = random.choice([str(other_key), "quay", "off", "p{1..3}", "x" * 300])
            holder[new] = holder.pop(key)
        else:
            holder[key] = random.choice(ODD)
    return document


def text_of(document: Any, random: Random) -> str:
    """The document as text, in one of the styles that people write; now and then with a character too many."""
    text: str = yaml.safe_dump(document, sort_keys=False, allow_unicode=random.random() < 0.5)
    if random.random() < 0.15:
        at = random.randrange(len(text))
        text = text[:at] + random.choice(["\t", ":", "- ", "}", "&a ", "*a", "#", "\x00", "'", "\r\n"]) + text[at:]
    return text


def ask_everything(text: str) -> bool:
    """Put every question to a network document; whether it was one."""
    try:
        network = archipelago.read_network(text)
    except archipelago.DocumentError as error:
        assert error.problems
        assert all(len(line) < 2000 for line in error.lines())
        return False
    found = archipelago.audit(network)
    str(found)
    mended = archipelago.mend(text)
    assert mended.left.errors <= found.errors, (found, mended)
    names = list(network.hosts)[:2]
    for asked in (
        lambda: archipelago.matrix(network),
        lambda: diagram(index_network(network), found),
        lambda: archipelago.view(network),
        lambda: archipelago.reach(network, names[0], names[-1]) if names else None,
        lambda: archipelago.trace(network, names[0], names[-1]) if names else None,
        lambda: archipelago.export(network, "linux"),
    ):
        try:
            str(asked())
        except errors.ArchipelagoError as error:
            assert str(error)
    assert archipelago.read_network(archipelago.network_text(network)) == network
    return True


@pytest.mark.parametrize("seed", range(300))
def test_a_mangled_network_is_refused_or_answered(seed: int) -> None:
    random = Random(900_000 + seed)
    network = scrambled(random, small=True, anything=True)
    if network is None:  # this seed's brief cannot be built
        pytest.skip("this seed makes nothing to ask about")
    document = yaml.safe_load(archipelago.network_text(network))
    ask_everything(text_of(mangled(document, random), random))


@pytest.mark.parametrize("seed", range(100))
def test_a_mangled_brief_is_refused_or_designed(seed: int) -> None:
    random = Random(950_000 + seed)
    brief = files("archipelago.demo").joinpath("tern-bay.yaml").read_text(encoding="utf-8")
    document = mangled(yaml.safe_load(brief), random)
    try:
        network = archipelago.design(archipelago.read_brief(text_of(document, random))).network
    except (archipelago.DocumentError, archipelago.DesignError, archipelago.CarveError) as error:
        assert str(error)
        return
    assert archipelago.read_network(archipelago.network_text(network)) == network


@pytest.mark.parametrize("parent", ["{}", "[p1]", "", "~", "9" * 5000, '"p1\\e[31m"'])
def test_a_parent_that_is_no_name(parent: str) -> None:
    text = (
        "format: archipelago-network/1\nvlans: {crew: 220}\ndevices:\n  landing:\n    kind: router\n"
        f"    interfaces:\n      p1.220:\n        parent: {parent}\n        tag: crew\n"
    )
    with pytest.raises(archipelago.DocumentError) as raised:
        archipelago.read_network(text)
    assert [one.line for one in raised.value.problems] in ([8], [7])


@pytest.mark.parametrize("number", ["0", "0000000011234", "4095"])
def test_an_expectation_of_what_is_no_vlan_is_refused(number: str) -> None:
    text = f"format: archipelago-network/1\nexpect: [{{from: {number}, to: outside, reached: no}}]\n"
    with pytest.raises(archipelago.DocumentError, match="VLAN ids go from 1 to 4094"):
        archipelago.read_network(text)
