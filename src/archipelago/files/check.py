"""From a tree of texts to a checked document: every problem with its place, its text and what would be accepted."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from difflib import get_close_matches
from typing import Any

from archipelago.addressing.values import parse_address, parse_prefix
from archipelago.errors import AddressError, DocumentError, Problem
from archipelago.files.shape import BAD, Problems, Section, read
from archipelago.files.tree import Tree
from archipelago.model.expectation import OUTSIDE, Expectation
from archipelago.model.network import DEFAULT_VLAN, Path


def close(word: str, accepted: Iterable[str]) -> str:
    """`; did you mean 'x'?` where one accepted name is close, else nothing."""
    found = get_close_matches(word, list(accepted), n=1, cutoff=0.6)
    return f"; did you mean '{found[0]}'?" if found else ""


def options(accepted: Iterable[str], most: int = 12) -> str:
    """The accepted names as text, cut where there are very many."""
    names = list(accepted)
    if not names:
        return "none"
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")


class Checker(Problems):
    """Gathers the problems of one file, so that all are told together."""

    def __init__(self, tree: Tree) -> None:
        self.tree = tree
        self.problems = list(tree.problems)
        self._forgiven: set[str] = set()

    def shape(self, section: Section) -> Any:
        """The tree as that section, problems noted; what does not fit is left out, so that the references of the rest
        are still checked. Raises DocumentError where nothing is left to check."""
        if not isinstance(self.tree.value, dict):
            self.add((), "the file is not a mapping; it starts with a line 'format: ...' and goes on with 'KEY: ...'")
            self.finish()
        found = read(section, self.tree.value, (), self)
        if found is BAD:
            self.finish()
        return found

    def forgive(self, name: str) -> None:
        self._forgiven.add(name)

    def unknown(self, path: Path, key: str, accepted: list[str]) -> None:
        self.add(path, f"unknown key '{key}'{close(key, accepted)}; accepted here: {options(accepted, 40)}", key=True)

    def add(self, path: Path, message: str, *, key: bool = False) -> None:
        """Note a problem with the value (or the key) at `path`."""
        for length in range(len(path), -1, -1):
            mark = self.tree.marks.get(path[:length])
            if mark is not None:
                exact = length == len(path)
                line, column = mark[:2] if key and exact else mark[2:]
                self.problems.append(Problem(line, column, message))
                return
        self.problems.append(Problem(0, 0, message))

    def finish(self) -> None:
        """Raise what was gathered, if anything."""
        if self.problems:
            raise DocumentError(self.tree.source, self.problems)

    def name(self, path: Path, value: str, accepted: Iterable[str], what: str) -> bool:
        """Whether `value` is among the accepted names; if not, a problem is noted."""
        names = accepted if isinstance(accepted, (dict, set, frozenset)) else list(accepted)
        if value in names or value in self._forgiven:
            return value in names
        self.add(path, f"there is no {what} '{value}'{close(value, names)}; there are: {options(names)}")
        return False

    def expectations(
        self, entries: Iterable[tuple[Path, Any]], vlans: dict[str, int], hosts: Collection[str]
    ) -> tuple[Expectation, ...]:
        """What must hold; each end is a VLAN, a host, a subnet, an address, or the outside."""
        found = []
        for path, one in entries:
            source, target = getattr(one, "from"), one.to
            for key, end in (("from", source), ("to", target)):
                self._end((*path, key), end, vlans, hosts)
            found.append(Expectation(source, target, one.reached))
        return tuple(found)

    def _end(self, path: Path, end: str, vlans: dict[str, int], hosts: Collection[str]) -> None:
        if end == OUTSIDE or end in self._forgiven:
            return
        if end in vlans and end in hosts:
            self.add(path, f"'{end}' is a VLAN and a host; write the VLAN's id ({vlans[end]}) or the host's address")
        elif end in vlans or end in hosts or end.isdigit():
            if end.isdigit():
                self.vlan(path, end, vlans)
        else:
            try:
                parse_prefix(end) if "/" in end else parse_address(end)
            except AddressError as error:
                wrong = f": {error}" if end[:1].isdigit() or ":" in end else close(end, [*vlans, *hosts, OUTSIDE])
                self.add(
                    path,
                    f"'{end}' is no VLAN, host, subnet or address{wrong}; "
                    f"VLANs: {options(vlans)}; or '{OUTSIDE}', whatever lies beyond the network",
                )

    def vlan(self, path: Path, value: str, catalogue: dict[str, int]) -> int:
        """The id of a VLAN given by name or id; 0, with a problem noted, where there is none such."""
        if value in catalogue:
            return catalogue[value]
        if value in self._forgiven:
            return 0
        if value.isascii() and value.isdigit():
            number = int(value[:9])
            if number == DEFAULT_VLAN or number in catalogue.values():
                return number
            if not 1 <= number <= 4094:
                self.add(path, f"'{value}' is not a VLAN id; ids go from 1 to 4094 (IEEE 802.1Q)")
                return 0
        self.add(
            path,
            f"there is no VLAN '{value}' in the catalogue{close(value, catalogue)}; "
            f"'vlans' holds: {options(catalogue)}",
        )
        return 0
