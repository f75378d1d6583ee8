"""What holds for every answer: it prints what the command prints, says in a schema what its values are, and is short
where it is only named."""

from __future__ import annotations

import json
import re
from dataclasses import fields, is_dataclass
from itertools import chain
from typing import Any

import jsonschema
import pytest
from jsonschema.exceptions import best_match

import archipelago
from archipelago.answer import Answer, face_of
from archipelago.cli.calls import VERBS
from archipelago.views.answers import faces, schema, verbs
from archipelago.views.schema import KEY
from test_outages import pair

CALLS = [
    "carve 10.44.0.0/21 2001:db8:44::/48 tickets:210=45 crew:220=110",
    "design brief.yaml",
    "audit network.yaml",
    "audit broken.yaml --quick",
    "reach network.yaml kiosk-a purser",
    "reach broken.yaml purser camera-s --steps",
    "reach broken.yaml purser camera-s outside",
    "reach broken.yaml purser camera-s --next",
    "reach broken.yaml purser --in-order",
    "reach broken.yaml --in-order",
    "reach network.yaml purser outside --trace",
    "reach network.yaml purser --broadcast",
    "reach network.yaml innkeeper --lease --steps",
    "matrix broken.yaml",
    "matrix network.yaml --probe icmp,tcp/443",
    "matrix network.yaml --policy",
    "view network.yaml",
    "view network.yaml --after purser,lamp",
    "view network.yaml --host kiosk-a",
    "view network.yaml --leases",
    "view network.yaml --redundancy",
    "mend broken.yaml -o new.yaml",
    "compare network.yaml broken.yaml --quick",
    "change network.yaml",
    "change network.yaml mended.yaml --from purser",
    "outages network.yaml --quick",
    "outages network.yaml --break holm --from innkeeper --to purser --restore 20",
    "traffic network.yaml --failures",
    "weigh brief.yaml",
]
"""A call of every verb that answers, and of every option that asks for another answer; the real kernel has its own."""


@pytest.fixture(scope="module")
def said(command, tern_bay):
    """What each call prints with --json."""
    told = {}
    for call in CALLS:
        done = command(*call.split(), "--json", cwd=tern_bay)
        assert done.returncode in (0, 1) and not done.stderr, (call, done.stderr)
        told[call] = json.loads(done.stdout)
    return told


def keys_of(values, where=()):
    """Every key of an answer, and what it is in."""
    if isinstance(values, dict):
        for key, value in values.items():
            yield key, where
            yield from keys_of(value, (*where, key))
    elif isinstance(values, list):
        yield from chain.from_iterable(keys_of(one, where) for one in values)


@pytest.mark.long
def test_every_answer_is_what_its_schema_says_with_every_key(said):
    for call, told in said.items():
        wrong = best_match(jsonschema.Draft202012Validator(schema(call.split()[0])).iter_errors(told))
        assert wrong is None, (call, wrong.message, list(wrong.absolute_path))
    formats = {told["format"] for told in said.values()}
    without_a_call = {face.name for face in faces() if face.format not in formats}
    assert without_a_call == {"rehearse", "record", "records", "expectations", "growth"}, without_a_call


@pytest.mark.long
def test_a_key_more_or_less_is_not_what_the_schema_says(said):
    for call, told in said.items():
        validator = jsonschema.Draft202012Validator(schema(call.split()[0]))
        if told["format"] != "archipelago-leases/1":  # whose keys are hosts
            assert not validator.is_valid({**told, "more": 1}), call
            assert all(not validator.is_valid({k: v for k, v in told.items() if k != key}) for key in told), call


@pytest.mark.long
def test_keys_are_lower_case_words_and_none_is_made_of_a_name(said):
    by_name = ("root", "network", "devices", "hosts", "value", "edits")
    for call, told in said.items():
        if told["format"] != "archipelago-leases/1":
            odd = {key for key, where in keys_of(told) if not re.match(KEY, key) and not set(by_name) & set(where)}
            assert not odd, (call, odd)


def test_each_verb_has_a_schema_and_so_has_each_document(command):
    for name in ("network", "brief", "recipe", *verbs()):
        jsonschema.Draft202012Validator.check_schema(archipelago.schema(name))
    assert json.loads(command("schema", "audit").stdout) == archipelago.schema("audit")
    refused = command("schema", "sail")
    assert (
        refused.returncode == 2 and "there is no schema of 'sail'; there are: network, brief, recipe," in refused.stderr
    )


ASKED: list[tuple[str, Any]] = [
    ("audit network.yaml", lambda n, b: archipelago.audit(n)),
    ("audit broken.yaml", lambda n, b: archipelago.audit(b)),
    ("reach network.yaml kiosk-a purser", lambda n, b: archipelago.reach(n, "kiosk-a", "purser")),
    ("reach broken.yaml purser camera-s", lambda n, b: archipelago.reach(b, "purser", "camera-s")),
    ("reach broken.yaml purser --in-order", lambda n, b: archipelago.reach_in_order(b, "purser")),
    ("reach network.yaml purser outside --trace", lambda n, b: archipelago.trace(n, "purser", "outside")),
    ("reach network.yaml purser --broadcast", lambda n, b: archipelago.broadcast(n, "purser")),
    ("reach network.yaml innkeeper --lease", lambda n, b: archipelago.lease(n, "innkeeper")),
    ("matrix broken.yaml", lambda n, b: archipelago.matrix(b)),
    ("matrix network.yaml --policy", lambda n, b: archipelago.check_policy(n)),
    ("view network.yaml", lambda n, b: archipelago.view(n)),
    ("view network.yaml --leases", lambda n, b: archipelago.leases(n)),
    ("view network.yaml --redundancy", lambda n, b: archipelago.redundancy(n)),
    ("compare network.yaml broken.yaml --quick", lambda n, b: archipelago.compare(n, b, failures=False)),
    ("outages network.yaml --quick", lambda n, b: archipelago.outages(n, additions=False)),
    ("traffic network.yaml", lambda n, b: archipelago.traffic(n)),
    ("change network.yaml", lambda n, b: archipelago.setting_up(n)),
]


SOON = ("audit network", "reach broken.yaml purser camera-s", "view network.yaml --leases", "change network")
"""The calls that the usual command asks, too; all of them are asked by `-m long`."""


@pytest.mark.parametrize(
    ("call", "ask"),
    [pytest.param(*one, id=one[0], marks=() if one[0].startswith(SOON) else pytest.mark.long) for one in ASKED],
)
def test_printed_an_answer_is_what_the_command_prints_and_true_where_it_says_yes(call, ask, command, tern_bay):
    network, broken = (archipelago.read_network(tern_bay / f"{name}.yaml") for name in ("network", "broken"))
    answer = ask(network, broken)
    done = command(*call.split(), cwd=tern_bay)
    assert str(answer).replace(f"{tern_bay}/", "") + "\n" == done.stdout
    if not call.startswith("view"):  # what is looked at has neither yes nor no
        assert bool(answer) == (done.returncode == 0)
    assert repr(answer).startswith(f"<{type(answer).__name__}: ") and len(repr(answer)) <= 100
    assert all(table.rows for table in answer.tables())
    assert not archipelago.to_table(answer).empty or not answer.tables()
    assert archipelago.to_json(answer) == answer.values()
    wrong = best_match(jsonschema.Draft202012Validator(schema(call.split()[0])).iter_errors(answer.values()))
    assert wrong is None, (wrong.message, list(wrong.absolute_path))


def test_every_public_type_is_named_in_one_short_line(tern_bay):
    network = archipelago.read_network(tern_bay / "network.yaml")
    brief = archipelago.read_brief(tern_bay / "brief.yaml")
    made = archipelago.design(brief)
    change = archipelago.change(network, network, "purser")
    waiting = [network, brief, made, change, archipelago.audit(network, quick=True), network.devices, network.vlans]
    seen, types = set(), set()
    while waiting:
        value = waiting.pop()
        if id(value) in seen or isinstance(value, (str, int, float, type(None))):
            continue
        seen.add(id(value))
        if type(value).__module__.startswith("archipelago"):
            types.add(type(value).__name__)
            assert len(repr(value)) <= 120 and "\n" not in repr(value), type(value)
        if is_dataclass(value):
            waiting += [getattr(value, field.name) for field in fields(value) if field.compare]
        elif isinstance(value, dict):
            assert len(repr(value)) <= 100, value
            waiting += value.values()
        elif isinstance(value, (tuple, list)):
            waiting += value
    assert {"Network", "Device", "Port", "Host", "Brief", "Design", "VlanNeed"} <= types


def test_what_is_not_drawn_says_so(tern_bay, tmp_path):
    network = archipelago.read_network(tern_bay / "network.yaml")
    with pytest.raises(archipelago.QueryError, match="what audit answers is not drawn"):
        archipelago.draw(archipelago.audit(network, quick=True), tmp_path / "a.svg")
    drawn = [face for face in faces() if face.picture]
    assert {face.name for face in drawn} >= {
        "carve",
        "matrix",
        "policy",
        "outages",
        "break",
        "compare",
        "traffic",
        "weigh",
    }
    archipelago.draw(archipelago.matrix(network), tmp_path / "m.svg")
    assert (tmp_path / "m.svg").read_bytes() == archipelago.matrix(network).picture("svg")


def test_all_answers_are_public_and_have_a_face():
    for name in archipelago.__all__:
        getattr(archipelago, name)
    for kind in Answer.__subclasses__():
        assert kind.SHOWN and face_of(kind) in faces(), kind


def test_what_is_cut_is_counted_and_asked_for_with_all(command, tmp_path):
    """Of long tables the first rows are printed; the verb that gives the answer has `--all`."""
    found = archipelago.outages(pair(), double=True)
    long = [table for table in found.tables() if table.first is not None and len(table.rows) > table.first]
    assert long and all(f"(the first 10 of {len(table.rows):,}; --all has the others)" in str(found) for table in long)
    archipelago.write_network(pair(), tmp_path / "pair.yaml")
    shown = command("outages", tmp_path / "pair.yaml", "--double").stdout
    assert shown == f"{found}\n"
    everything = command("outages", tmp_path / "pair.yaml", "--double", "--all").stdout
    assert "--all" not in everything and all(row[0] in everything for table in long for row in table.rows)
    asked = {verb for verb, (_, _, options) in VERBS.items() if any("--all" in option for option in options)}
    assert {face.verb for face in faces() if face.whole is not None} <= asked
