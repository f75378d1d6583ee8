"""Edits of a document's text: what is meant is what is read back, whatever the style, and nothing else changes."""

from __future__ import annotations

import difflib
import json
from random import Random

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

import archipelago
from archipelago import REMOVE, Edit, EditError, amend, audit, read_network
from archipelago.files.layout import lay_out
from archipelago.files.meant import meaning
from archipelago.files.tree import parse
from makers import scrambled
from styles import in_styles, one_edit

BLOCK = """\
# the slip
format: archipelago-network/1
vlans: {crew: 120, yard: 140}   # two of them

devices:
  slip:   # by the water
    kind: "switch"
    ports:
      p1:
        access: crew   # mess
        off: yes
      p2: {access: yard}  # winch
      p12:
        trunk:
        - crew
        - yard   # both
    gateway: &gate 10.44.20.1
hosts:
  winch: {at: slip/p1, address: '10.44.20.2/25', gateway: *gate
    # not yet
    }
cables: []
"""


WINCH = "  winch: {at: slip/p1, address: '10.44.20.2/25', "


def data(text: str):
    return parse(text.encode(), "").value


def value_at(value, edit: Edit):
    """What an edit replaces; None where it adds."""
    for part in edit.path:
        value = (
            value[part]
            if isinstance(value, list) and isinstance(part, int)
            else value.get(part)
            if isinstance(value, dict)
            else None
        )
    return value


def changed(before: str, after: str) -> list[str]:
    return [line for line in difflib.ndiff(before.splitlines(), after.splitlines()) if line[0] in "+-"]


@pytest.mark.parametrize(
    ("edit", "lines"),
    [
        (Edit(("devices", "slip", "ports", "p1", "access"), "yard"), ["        access: yard   # mess"]),
        (Edit(("devices", "slip", "ports", "p1", "off"), REMOVE), []),
        (Edit(("devices", "slip", "ports", "p12", "trunk", "+"), "1"), ["        - 1"]),
        (Edit(("devices", "slip", "ports", "p12", "trunk", 0), REMOVE), []),
        (Edit(("devices", "slip", "ports", "p12", "untagged"), "none"), ["        untagged: none"]),
        (Edit(("devices", "slip", "ports", "p2", "off"), "yes"), ["      p2: {access: yard, off: yes}  # winch"]),
        (Edit(("devices", "slip", "ports", "p12", "trunk"), ["yard"]), []),
        (Edit(("devices", "slip", "kind"), "router"), ['    kind: "router"']),
        (
            Edit(("hosts", "winch", "address"), "10.44.20.3/25"),
            ["  winch: {at: slip/p1, address: '10.44.20.3/25', gateway: *gate"],
        ),
        (Edit(("hosts", "winch", "gateway"), "10.44.20.9"), [WINCH + "gateway: 10.44.20.9"]),
        (Edit(("devices", "slip", "gateway"), REMOVE), [WINCH + "gateway: 10.44.20.1"]),
        (Edit(("hosts", "winch", "off"), "yes"), [WINCH + "gateway: *gate, off: yes"]),
        (Edit(("cables", "+"), "slip/p12 ~ quay/p1"), ["cables: [slip/p12 ~ quay/p1]"]),
        (
            Edit(("expect", "+"), {"from": "crew", "to": "yard", "reached": "no"}),
            ["expect: [{from: crew, to: yard, reached: no}]"],
        ),
        (
            Edit(("devices", "slip", "routes", "+"), {"destination": "::/0", "next-hop": "fe80::1%p1"}),
            ['    routes: [{destination: "::/0", next-hop: fe80::1%p1}]'],
        ),
    ],
)
@pytest.mark.parametrize("line_end", ["\n", "\r\n"])
@pytest.mark.parametrize("mark", ["", "\ufeff"])
def test_one_edit_changes_its_own_line(edit, lines, line_end, mark):
    before = mark + BLOCK.replace("\n", line_end)
    after = amend(before, [edit])
    assert data(after) == meaning(data(before), [edit]).value
    assert [line[2:] for line in changed(before, after) if line[0] == "+"] == lines
    assert after.startswith(mark) and after.count("\n") == after.count(line_end)
    assert sum(line[0] == "-" for line in changed(before, after)) <= 1 + 2 * (edit.path[-1] in ("gateway", "trunk"))


def test_the_last_entry_of_a_list_leaves_an_empty_list():
    edits = [Edit(("devices", "slip", "ports", "p12", "trunk", number), REMOVE) for number in (0, 1)]
    assert "        trunk: []\n    gateway" in amend(BLOCK, edits)


def test_what_an_alias_stands_for_is_changed_alone_or_for_all():
    text = "a: &x {off: yes}\nb: *x\nc: *x\n"
    assert amend(text, [Edit((key, "off"), "no") for key in "abc"]) == "a: &x {off: no}\nb: *x\nc: *x\n"
    assert amend(text, [Edit(("b", "off"), "no")]) == "a: &x {off: yes}\nb: {off: no}\nc: *x\n"
    assert amend(text, [Edit(("a", "off"), "no")]) == "a: &x {off: no}\nb: {off: yes}\nc: {off: yes}\n"
    assert amend(text, [Edit(("a",), REMOVE)]) == "b: {off: yes}\nc: {off: yes}\n"


RANGES = """\
format: archipelago-network/1
vlans: {crew: 120, yard: 140}
devices:
  slip:
    kind: switch
    ports:
      p{1..8}: {access: crew, off: yes}
      "p{9,10}": {trunk: [crew], untagged: none}
hosts:
  h-{1..8}: {at: "slip/p{1..8}", address: 10.44.20.2/25, gateway: 10.44.20.1}
"""


def test_what_a_range_gives_is_added_to_or_switched_off_by_name_or_refused():
    edits = [
        Edit(("devices", "slip", "ports", "p3", "off"), REMOVE),
        Edit(("devices", "slip", "ports", "p10", "trunk", "+"), "yard"),
        Edit(("hosts", "h-4", "gateway"), "10.44.20.9"),
    ]
    network = read_network(amend(RANGES, edits))
    ports = network.devices["slip"].ports
    assert (ports["p3"].off, ports["p3"].access, ports["p2"].off) == (False, 120, True)
    assert (ports["p10"].trunk, ports["p9"].trunk) == ((120, 140), (120,))
    assert str(network.hosts["h-4"].gateway[0]) == "10.44.20.9" and str(network.hosts["h-5"].gateway[0]) == "10.44.20.1"
    for path in (("hosts", "h-4", "gateway"), ("devices", "slip", "ports", "p1", "access")):
        with pytest.raises(EditError, match=f"{'/'.join(path)}: the range '.*' gives it"):
            amend(RANGES, [Edit(path, REMOVE)])
    later = RANGES.replace("    ports:\n", "    ports:\n      p2: {access: yard}\n")
    with pytest.raises(EditError, match="written later, overrules it"):
        amend(later, [Edit(("devices", "slip", "ports", "p2", "access"), "1")])


def test_an_edit_that_fits_nowhere_is_refused_by_name():
    for path, value in ((("hosts", "x"), REMOVE), (("title", "x"), "y"), (("cables", 9, "off"), "yes")):
        with pytest.raises(EditError, match="/".join(map(str, path[:1]))):
            amend(BLOCK + "title: Slip\n", [Edit(path, value)])


def test_a_json_document_stays_one():
    text = json.dumps(data(BLOCK), indent=2)
    edits = [
        Edit(("devices", "slip", "ports", "p1", "off"), REMOVE),
        Edit(("devices", "slip", "routes", "+"), {"destination": "0.0.0.0/0", "next-hop": "10.44.20.1"}),
    ]
    assert json.loads(amend(text, edits))["devices"]["slip"]["routes"][0]["next-hop"] == "10.44.20.1"


@given(st.integers(0, 10**6))
def test_edits_mean_the_same_in_every_style(seed):
    random = Random(seed)
    network = scrambled(random, small=True)
    assume(network is not None)
    for style, text in in_styles(network, random).items():
        assert read_network(text) == network, style
        for _ in range(3):
            edits = [one_edit(data(text), random) for _ in range(random.randint(1, 4))]
            try:
                meant = meaning(data(text), edits).value
                after = amend(text, edits)
            except EditError:
                continue
            assert data(after) == meant, (style, edits)
            comments = text.count("#")
            removed = any(
                edit.value is REMOVE or isinstance(value_at(data(text), edit), (dict, list)) for edit in edits
            )
            assert removed or after.count("#") >= comments, (style, edits)


def test_the_layout_of_a_text_is_where_it_says():
    node, aliased = lay_out(BLOCK)
    entries = {entry.key: entry for entry in node.entries}
    assert aliased and BLOCK[entries["cables"].node.start :].startswith("[]")
    host = entries["hosts"].node.entries[0].node
    assert BLOCK[host.start : host.end].startswith("{at: slip/p1") and BLOCK[host.end - 1] == "}"


def test_each_mend_is_counted_once_and_the_second_time_nothing_is_left():
    text = (
        "format: archipelago-network/1\nvlans: {deck: 150}\ndevices:\n"
        "  r: {kind: router, interfaces: {p1.150: {parent: p1, tag: deck, address: 10.44.0.1/24}}}\n"
        "  s: {kind: switch, ports: {p1: {access: deck}, p2: {access: deck}, p24: {trunk: [deck], untagged: none}}}\n"
        "hosts:\n  a: {at: s/p1, address: 10.44.0.10/24   # kiosk\n     }\n"
        "  b: {at: s/p2, address: 10.44.0.11/24, gateway: &g 10.44.0.7}\ncables:\n- r/p1 ~ s/p24\n"
    )
    result = archipelago.mend(text)
    assert len(result.made) == 2 and audit(result.network) == () and "# kiosk" in result.text
    assert archipelago.mend(result.text).text == result.text
