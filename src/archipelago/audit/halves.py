"""The IPv4 half and the IPv6 half of one mistake, told as one finding."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import replace

from archipelago.addressing.values import Prefix, parse_prefix
from archipelago.diagnosis.places import sample
from archipelago.errors import AddressError
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Edit, Finding
from archipelago.model.parts import Path

_ADDRESS_6 = r"(?<![\w:])[0-9a-fA-F]{0,4}(?::[0-9a-fA-F]{0,4}){2,7}(?:/\d+)?"
_FAMILY = re.compile(rf"IPv[46]|{_ADDRESS_6}|(?<![\w.])\d+\.\d+\.\d+\.\d+(?:/\d+)?")
"""What texts about one family have that those about the other have otherwise: its name, its addresses."""
_SIX = re.compile(rf"IPv6|{_ADDRESS_6}")


def whole(index: NetworkIndex, findings: Iterable[Finding]) -> Iterator[Finding]:
    """Findings, the two halves of one mistake as one: of one kind, at one device, that say the same but for addresses,
    about the same neighbours."""
    waiting: dict[tuple[object, ...], Finding] = {}
    order: list[Finding | tuple[object, ...]] = []
    for finding in findings:
        key = _key(index, finding)
        first = waiting.get(key) if key is not None else None
        if key is None:
            order.append(finding)
        elif first is None:
            waiting[key] = finding
            order.append(key)
        elif _is_six(first) != _is_six(finding):
            waiting[key] = _joined(*sorted((first, finding), key=_is_six))
        else:
            order.append(finding)
    yield from (waiting[one] if isinstance(one, tuple) else one for one in order)


def _is_six(finding: Finding) -> bool:
    return _SIX.search(finding.says) is not None


def _key(index: NetworkIndex, finding: Finding) -> tuple[object, ...] | None:
    """What the two halves of a mistake have in common; None where a finding is about no family."""
    if not _FAMILY.search(finding.says):
        return None
    texts = tuple(_FAMILY.sub("@", text) for text in (finding.says, finding.mend))
    return finding.kind, finding.severity, finding.at, _place(finding.path), texts, _neighbours(index, finding)


def _place(path: Path) -> Path:
    """Where a mistake stands: of a list the list."""
    return path[:-1] if path and isinstance(path[-1], int) else path


def _neighbours(index: NetworkIndex, finding: Finding) -> frozenset[object]:
    """Which subnets a finding is about, as the interfaces that stand in them; a default route as such."""
    named: set[object] = set()
    for text in _FAMILY.findall(finding.says):
        try:
            prefix = parse_prefix(text) if "/" in text else None
        except AddressError:
            continue
        if prefix is not None:
            named |= {"default"} if not prefix.length else _homes(index, prefix)
    return frozenset(named)


def _homes(index: NetworkIndex, prefix: Prefix) -> set[object]:
    homes = list(index.homes_in(sample(prefix), ""))
    return {(home.node.name, home.nic.name) for home in homes} or {str(prefix)}


def _joined(four: Finding, six: Finding) -> Finding:
    """One finding of both halves."""
    edits = list(four.edits)
    for edit in six.edits:
        same = next((number for number, one in enumerate(edits) if one.path == edit.path and _lists(one, edit)), None)
        if same is None:
            edits += [edit] if edit not in edits else []
        else:
            edits[same] = Edit(
                edit.path, [*edits[same].value, *(one for one in edit.value if one not in edits[same].value)]
            )
    both = bool(four.edits) == bool(six.edits)
    return replace(
        four,
        says=_both(four.says, six.says),
        breaks=_both(four.breaks, six.breaks),
        mend=_both(four.mend, six.mend),
        edits=tuple(edits) if both else (),
        instead=(),
    )


def _lists(one: Edit, other: Edit) -> bool:
    return isinstance(one.value, list) and isinstance(other.value, list) and str(one.path[-1]) != "+"


def _both(four: str, six: str) -> str:
    """Two texts that say the same of two families, as one."""
    others = iter(_FAMILY.findall(six))

    def pair(found: re.Match[str]) -> str:
        other = next(others, found[0])
        return found[0] if other == found[0] else f"{found[0]} and {other}"

    if _FAMILY.sub("@", four) != _FAMILY.sub("@", six):
        return four
    return _FAMILY.sub(pair, four)
