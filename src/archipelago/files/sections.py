"""Reading a tree by the declared keys: every value converted, every problem noted with its place.

One short walk over the declarations, instead of a validation library: loading one took longer than all the rest of a
`reach`, and every problem of a file must come out of one pass, in our own words, with its place.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import cache
from typing import Any

from archipelago.errors import DocumentError, ModelProblem, Problem
from archipelago.files.codecs import READ, Context, name, port_name, trunk_vlans
from archipelago.files.ranges import Wrong, shown
from archipelago.files.tree import Tree
from archipelago.model.key import ALONE, Holder, Key, Value
from archipelago.model.keys import keys_of, telling_key
from archipelago.model.parts import Path
from archipelago.model.problems import MOST_MEANT, Names, listed
from archipelago.progress import steps

EMPTY = (None, "~", "null")
"""How YAML and JSON write a value that is not there, where a section or a mapping is expected."""
Fields = dict[str, Any]
"""The fields of a part of the model, as far as they are written and understood."""


_OTHERS = {
    "archipelago-brief/1": "this is a brief, and a network is wanted; make one: archipelago design BRIEF -o NETWORK",
    "archipelago-network/1": "this is a network, and a brief is wanted; to move nothing of a network: --keep NETWORK",
}
"""What is said where one kind of document stands for the other."""


@cache
def _known(holder: Holder) -> dict[str, Key]:
    """The keys of a section by name."""
    return {key.name: key for key in keys_of(holder)}


class _Bad:
    """Stands for what could not be read; whatever refers to it is not held against the file."""


BAD = _Bad()


def _entry_of(key: Key) -> Value:
    """What an entry is of a mapping whose entries are no sections."""
    return Value.ADDRESS if key.name == "reservations" else Value.VLAN_ID


class Reader:
    """Reads one tree and gathers its problems, so that all are told together."""

    def __init__(self, tree: Tree, formats: tuple[str, ...]) -> None:
        self.tree = tree
        self.problems = list(tree.problems)
        self.left_out: set[str] = set()
        self.names = Names(self.left_out)
        self.context = Context(names=self.names, formats=formats)
        self._misspelt = 0
        self._misread: set[Path] = set()
        self._vlans: dict[str, Any] = {}
        if not isinstance(tree.value, dict):
            self.add((), "the file is not a mapping; it starts with a line 'format: ...' and goes on with 'KEY: ...'")
            self.finish()
        told = _OTHERS.get(tree.value.get("format")) if isinstance(tree.value.get("format"), str) else None
        if told is not None and tree.value["format"] not in formats:
            self.add(("format",), told)
            self.finish()

    # Problems

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

    def add_listed(self, problems: Iterable[ModelProblem], fields: Fields) -> None:
        """Note what the model's own rules say. Entries of a list that were not understood are not among the model's;
        `fields` has each list with the places that its entries have in the file."""
        for problem in problems:
            path = problem.path
            if path[2:3] == ("filters",) and path[:4] in self._misread:
                continue  # its lines are not those of the file, nor have their numbers
            listed_here = fields.get(str(path[0])) if len(path) > 1 else None
            if isinstance(listed_here, list) and path[0] != "gateways":
                path = (path[0], listed_here[int(path[1])][0], *path[2:])
            self.add(path, problem.message, key=problem.key)

    def finish(self) -> None:
        """Raise what was gathered, if anything."""
        if self.problems:
            raise DocumentError(self.tree.source, self.problems)

    # Values

    def catalogue(self, holder: Holder) -> None:
        """Read the VLANs of the document, which everything else names."""
        key = next(key for key in keys_of(holder) if key.name == "vlans")
        vlans = self.value(key, self.tree.value.get("vlans"), ("vlans",))
        ids = {word: vlan if isinstance(vlan, int) else vlan[1]["id"] for word, vlan in vlans.items()}
        self.context.vlans = ids
        self._vlans = vlans

    def document(self, holder: Holder) -> Fields:
        """The fields of the whole document, once its VLANs are read.

        Raises:
            DocumentError: nothing is left to go on with.
        """
        section = self.section((holder,), self.tree.value, ())
        if section is BAD:
            self.finish()
        fields: Fields = section[1]
        return fields

    def section(self, holders: tuple[Holder, ...], value: Any, path: Path) -> Any:
        """The fields of a section (BAD where it cannot be one), with the holder that it turned out to be."""
        if value in EMPTY:
            value = {}
        if not isinstance(value, dict):
            keys = dict.fromkeys(key.name for holder in holders for key in keys_of(holder))
            self.add(path, f"{shown(value)} stands where a mapping is expected; its keys: {', '.join(keys)}")
            return BAD
        holder = holders[0] if len(holders) == 1 else self._kind_of(holders, value, path)
        if holder is None:
            return BAD
        known = _known(holder)
        for word in value:
            if word in known:
                continue
            if any(word in _known(other) for other in holders):
                told = f"'{word}' does not go with '{telling_key(holder).name}'; accepted: {', '.join(sorted(known))}"
                self.add((*path, word), told, key=True)
            else:
                self._unknown((*path, word), word, known)
        fields = self._fields(known.values(), value, path)
        return fields if fields is BAD else (holder, fields)

    def _kind_of(self, holders: tuple[Holder, ...], value: dict[str, Any], path: Path) -> Holder | None:
        telling = {holder: telling_key(holder).name for holder in holders}
        present = [holder for holder, word in telling.items() if word in value and value[word] not in ("false", "no")]
        if len(present) == 1:
            return present[0]
        has = f"has {' and '.join(telling[key] for key in present)}" if present else "has none of them"
        names = [f"'{word}' ({holder})" for holder, word in telling.items()]
        told = f"interface '{path[-1]}' {has}; give it one: {', '.join(names[:-1])} or {names[-1]}"
        self.add(path, told, key=True)
        return None

    def _fields(self, keys: Iterable[Key], value: dict[str, Any], path: Path) -> Any:
        fields: Fields = {}
        whole = True
        for key in keys:
            if key.name == "vlans" and not path:
                fields[key.attribute] = self._vlans
            elif key.name in value:
                read = self.value(key, value[key.name], (*path, key.name))
                whole = whole and not (read is BAD and key.required)
                fields[key.attribute] = key.default if read is BAD else read
            elif key.required:
                listed_here = len(path) > 1 and isinstance(path[-1], int)
                what = f"this entry of '{path[-2]}'" if listed_here else f"'{path[-1]}'" if path else "the file"
                self.add(path, f"{what} lacks the key '{key.name}'", key=True)
                whole = False
            else:
                fields[key.attribute] = key.default
        return fields if whole else BAD

    def value(self, key: Key, value: Any, path: Path) -> Any:
        """The value of a key; BAD where it does not fit, with the problem noted."""
        if key.value is Value.SECTION:
            return self.section(key.holds, value, path)
        if key.value is Value.NAMED:
            return self.named(key, value, path)
        if key.value is Value.LIST:
            return self.listed(key, value, path)
        if key.value is Value.TRUNK:
            return self._trunk(value, path)
        if key.value is Value.ROUTES_BACK and value in ("all", "none"):
            return value
        read = READ[key.value]
        if not key.many and key.value is not Value.ROUTES_BACK:
            return self.converted(read, value, path)
        entries = value if isinstance(value, list) else [] if value is None else [value]
        places = [(*path, number) if isinstance(value, list) else path for number in range(len(entries))]
        values = [self.converted(read, entry, where) for entry, where in zip(entries, places, strict=True)]
        return tuple(item for item in values if item is not BAD)

    def converted(self, read: Any, value: Any, path: Path) -> Any:
        """A value by its converter; BAD where it does not fit."""
        try:
            return read(value, self.context)
        except Wrong as error:
            self.add(path, str(error))
            self._misread.add(path[:4])
            return BAD

    def named(self, key: Key, value: Any, path: Path) -> dict[str, Any]:
        """A mapping from names to sections, or to VLAN ids."""
        value = {} if value in EMPTY else value
        if not isinstance(value, dict):
            self.add(path, f"{shown(value)} stands where a mapping (name: ...) is expected")
            return {}
        sections = {}
        reads = port_name if {Holder.PORT, Holder.VLAN_INTERFACE} & set(key.holds) else name
        last: Any = None
        got: Any = BAD
        entries = value.items() if path[1:] else steps(value.items(), f"reading {key.name}")
        for word, entry in entries:
            try:
                reads(word)
            except Wrong as error:
                self.add((*path, word), str(error), key=True)
            where: Path = (*path, word)
            # A range of names gives them all one section, which is read once.
            if entry is not last or got is BAD or not isinstance(entry, dict):
                got = (
                    self.section(key.holds, entry, where)
                    if key.holds
                    else self.converted(READ[_entry_of(key)], entry, where)
                )
                last = entry
            if got is BAD:
                self.left_out.add(word)
            else:
                sections[word] = got
        return sections

    def listed(self, key: Key, value: Any, path: Path) -> list[tuple[int, Fields]]:
        """A list of sections, each with its place; a cable alone stands for its ends."""
        value = [] if value is None else value
        alone = key.holds[0] in ALONE and isinstance(value, dict)
        if not isinstance(value, list) and not alone:
            self.add(path, f"{shown(value)} stands where a list is expected")
            return []
        sections = []
        for number, entry in enumerate([value] if alone else value):
            where: Path = path if alone else (*path, number)
            if entry is None:
                self.add(where, "this entry of the list is empty")
                continue
            if key.holds == (Holder.CABLE,) and isinstance(entry, str):
                entry = {"ends": entry}
            got = self.section(key.holds, entry, where)
            if got is not BAD:
                sections.append((number, got[1]))
        return sections

    def _trunk(self, value: Any, path: Path) -> Any:
        """`all`, or VLANs by name or id, or ranges of ids."""
        if value == "all":
            return value
        entries = value if isinstance(value, list) else [] if value is None else [value]
        vlans: list[int] = []
        for number, entry in enumerate(entries):
            got = self.converted(trunk_vlans, entry, (*path, number) if isinstance(value, list) else path)
            vlans += [vlan for vlan in (got if got is not BAD else ()) if vlan not in vlans]
        return tuple(vlans)

    def _unknown(self, path: Path, word: str, known: dict[str, Key]) -> None:
        self._misspelt += 1
        hint = self.names.hint(word, known) if self._misspelt <= MOST_MEANT else ""
        self.add(path, f"unknown key {shown(word)}{hint}; accepted here: {listed(known, 40)}", key=True)
