"""Single mistakes of every key in sound networks: a slip of one character, a line copied and not changed, a part
dropped or switched off. Each that cuts somebody off is to be named where it was made and mended whole.

python tests/slips_referee.py FIRST-SEED COUNT [drawn]   prints what falls short, then the figures; in networks that
                                                         are designed, or drawn as people draw them
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Callable, Iterator
from copy import deepcopy
from random import Random
from typing import Any, NamedTuple

import yaml

import archipelago
from archipelago import Network
from briefs import any_brief, paired_brief, with_policy
from drawn import drawn
from makers import mixed_brief, trunked_brief

PARTS = ("devices", "hosts", "cables", "outside")
"""What mistakes are made in: not in what is meant (the policy, expectations, names)."""
GROUPS = ("ports", "interfaces", "filters", "dhcp-pools", "reservations", "virtual")
EACH = 8
"""So many mistakes are made in each network."""

BRIEFS: tuple[Callable[[Random, int], archipelago.Brief | None], ...] = (
    lambda random, seed: trunked_brief(random, True),
    lambda random, seed: mixed_brief(random, True),
    lambda random, seed: with_policy(seed),
    lambda random, seed: archipelago.read_brief(any_brief(random)),
    lambda random, seed: archipelago.read_brief(paired_brief(random)[0]),
)


class Slip(NamedTuple):
    """A mistake: how it was made and where, who may be named for it, and the network with it."""

    how: str
    path: tuple[Any, ...]
    named: frozenset[str]
    network: Network


class Judged(NamedTuple):
    """What became of a mistake: whether it is named where it was made, and whether an error blames another part;
    whether the audit is green; whether the mends make it whole, whether they edit another part, and whether they lose
    what worked; whether the audit is green once they are made and somebody is cut off still."""

    named: bool
    others_blamed: bool
    green: bool
    whole: bool
    others_edited: bool
    lost: bool
    green_not_whole: bool


def sound(seed: int) -> Network | None:
    """A designed network; None where the brief cannot be designed."""
    random = Random(seed)
    brief = BRIEFS[seed % len(BRIEFS)](random, seed)
    try:
        return archipelago.design(brief).network if brief is not None else None
    except archipelago.DesignError:
        return None


def leaves(value: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[tuple[Any, ...], Any]]:
    """Every value of a document, and every list and section, with its path."""
    inner = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, part in inner:
        yield from leaves(part, (*path, key))
    if path:
        yield path, value


def inside(document: Any, path: tuple[Any, ...]) -> Any:
    for key in path:
        document = document[key]
    return document


def with_slip(document: dict[str, Any], random: Random) -> tuple[str, tuple[Any, ...], dict[str, Any]] | None:
    """A document with one mistake; None where the one that was thought of is none."""
    made = deepcopy(document)
    places = [(path, value) for path, value in leaves(made) if path[0] in PARTS and len(path) > 1]
    path, value = random.choice(places)
    holder, plain = inside(made, path[:-1]), not isinstance(value, dict | list)
    how = random.choice(["slip", "copy", "drop", "off"])
    if how == "slip" and plain and not isinstance(value, bool):
        digits = [at for at, letter in enumerate(str(value)) if letter.isdigit()]
        if not digits:
            return None
        at = random.choice(digits)
        digit = (int(str(value)[at]) + random.choice([1, 2, 3, 5])) % 10
        holder[path[-1]] = type(value)(f"{str(value)[:at]}{digit}{str(value)[at + 1 :]}")
    elif how == "copy" and plain:
        like = [(where, other) for where, other in places if where[-1] == path[-1] and where[0] == path[0]]
        others = [other for _, other in like if other != value and not isinstance(other, dict | list)]
        if not others:
            return None
        holder[path[-1]] = random.choice(others)
    elif how == "drop" and not (path[0] in ("devices", "hosts") and len(path) == 2):
        del holder[path[-1]]
    elif how == "off" and isinstance(value, dict) and path[0] in ("devices", "hosts") and path[-1] not in GROUPS:
        value["off"] = True
    else:
        return None
    return how, path, made


def to_name(path: tuple[Any, ...], before: dict[str, Any], after: dict[str, Any]) -> frozenset[str]:
    """Who may be named for what was changed: its owner; of a cable or a place in one either end."""
    if path[0] == "cables":
        cable = before["cables"][path[1]]
        ends = (cable if isinstance(cable, str) else cable["ends"]).split("~")
        return frozenset(end.split("/")[0].strip() for end in ends)
    if path[0] == "outside":
        entries = before["outside"] if isinstance(before["outside"], list) else [before["outside"]]
        return frozenset(entry["at"].split("/")[0] for entry in entries)
    if path[0] == "hosts" and path[-1] == "at":
        places = (document["hosts"][path[1]].get("at", "") for document in (before, after))
        return frozenset({path[1], *(place.split("/")[0] for place in places)})
    return frozenset({path[1]})


def slips(network: Network, random: Random) -> Iterator[Slip]:
    """Mistakes in a network that cut somebody off."""
    document = yaml.safe_load(archipelago.network_text(network))
    before = answers(network)
    for _ in range(5 * EACH):
        made = with_slip(document, random)
        if made is None:
            continue
        how, path, after = made
        try:
            broken = archipelago.read_network(yaml.safe_dump(after, sort_keys=False))
        except archipelago.DocumentError:
            continue
        if before - answers(broken):
            yield Slip(how, path, to_name(path, document, after), broken)


def answers(network: Network) -> set[tuple[Any, ...]]:
    """Who reaches whom in each family, and who is given a lease."""
    found: set[tuple[Any, ...]] = {("lease", host) for host, lease in archipelago.leases(network).items() if lease}
    for family in (4, 6):
        matrix = archipelago.matrix(network, family=family)
        found |= {(family, a, b) for a in matrix.hosts for b in matrix.hosts if a != b and matrix[a, b]}
    return found


def judged(before: set[tuple[Any, ...]], slip: Slip) -> Judged:
    """What the audit says of a mistake, and what is left once it is mended."""
    serious = [finding for finding in archipelago.audit(slip.network) if not finding.is_note]
    errors = [finding for finding in serious if finding.is_error]
    mended = archipelago.mend(slip.network)
    now = answers(mended.network)
    whole = before <= now
    left = [finding for finding in mended.left if not finding.is_note]
    edited = {part for finding in mended.made for edit in finding.edits for part in _edited(edit)}
    return Judged(
        named=any(finding.at in slip.named for finding in serious),
        others_blamed=any(finding.at and finding.at not in slip.named for finding in errors),
        green=not serious,
        whole=whole,
        others_edited=not edited <= slip.named,
        lost=bool(answers(slip.network) - now),
        green_not_whole=not whole and not left,
    )


def _edited(edit: archipelago.Edit) -> tuple[str, ...]:
    """The device or host that an edit is about; a cable, or a place outside, is of nobody alone."""
    return (str(edit.path[1]),) if edit.path[0] in ("devices", "hosts") else ()


def main() -> None:
    first, count = map(int, sys.argv[1:3])
    make = (lambda seed: drawn(Random(seed))) if "drawn" in sys.argv else sound
    figures: Counter[str] = Counter()
    for seed in range(first, first + count):
        network = make(seed)
        if network is None or not network.hosts:
            continue
        figures["networks"] += 1
        before = answers(network)
        for slip, _ in zip(slips(network, Random(seed)), range(EACH), strict=False):
            result = judged(before, slip)
            figures.update({"mistakes": 1, **{name: int(value) for name, value in result._asdict().items()}})
            if result != Judged(True, False, False, True, False, False, False):
                print(seed, slip.how, slip.path, result)
    print(dict(figures))


if __name__ == "__main__":
    main()
