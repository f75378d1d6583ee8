"""Reading a tree by the declared keys: every value converted, every problem noted with its place.

One short walk over the declarations, instead of a validation library: loading one took longer than all the rest of a
`reach`, and every problem of a file must come out of one pass, in our own words, with its place.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import cache
from typing import Any

from archipelago.errors import DocumentError, ModelProblem, Problem
from archipelago.files.codecs import MOST_PORTS, READ, Context, name, port_name, trunk_vlans
from archipelago.files.habits import habit
from archipelago.files.ranges import Wrong, count_of, ranged, shown, texts
from archipelago.files.tree import Tree
from archipelago.model.key import Holder, Key, Value
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


NAMING = (Value.VLAN, Value.PORT_NAME, Value.NAME, Value.PLACE, Value.PARTY)
"""The values in whose lists a range stands for all its texts: names, not addresses."""


def _entries(value: Any, path: Path, *, ranges: bool) -> Iterator[tuple[Path, Any]]:
    """Each entry of a list with its place, a text with a range as the texts that it stands for; a value that is no list
    is one of one entry."""
    entries = value if isinstance(value, list) else [] if value is None else [value]
    for number, entry in enumerate(entries):
        where = (*path, number) if isinstance(value, list) else path
        try:
            written = texts(entry) if ranges and ranged(entry) and count_of(entry) <= MOST_PORTS else (entry,)
        except Wrong:
            written = (entry,)
        for text in written:
            yield where, text


def _walks(value: Any) -> str:
    """What is said of a text with a range that walks along with nothing."""
    try:
        size = count_of(value) if ranged(value) else 0
    except Wrong as error:
        return f"; {error}"
    told = "it walks along with a range of as many in the name of what it belongs to"
    return f"; it stands for {size:,} texts, and {told}" if size else ""


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
            raise DocumentError(self.tree.source, list(dict.fromkeys(self.problems)))

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
        keys = {holder: telling_key(holder) for holder in holders}
        telling = {holder: key.name for holder, key in keys.items()}
        flags = {key.name for key in keys.values() if key.value is Value.FLAG}
        unset = {word for word in flags if value.get(word) in ("false", "no")}  # a VLAN may be called so
        present = [holder for holder, word in telling.items() if word in value and word not in unset]
        if len(present) == 1:
            return present[0]
        has = f"has {' and '.join(telling[key] for key in present)}" if present else "has none of them"
        if {Holder.SUBINTERFACE, Holder.VLAN_INTERFACE} == set(present):
            has = "has parent and vlan; the VLAN of a subinterface is its 'tag'"
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
        ranges = key.value in NAMING
        values = [self.converted(read, entry, where) for where, entry in _entries(value, path, ranges=ranges)]
        return tuple(item for item in values if item is not BAD)

    def converted(self, read: Any, value: Any, path: Path) -> Any:
        """A value by its converter; BAD where it does not fit."""
        try:
            return read(value, self.context)
        except Wrong as error:
            self.add(path, f"{error}{_walks(value)}")
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
                alone = key.holds == (Holder.VLAN,) and not isinstance(entry, dict)  # an id stands for itself
                got = (
                    self.section(key.holds, entry, where)
                    if key.holds and not alone
                    else self.converted(READ[_entry_of(key)], entry, where)
                )
                last = entry
            if got is BAD:
                self.left_out.add(word)
            else:
                sections[word] = got
        return sections

    def listed(self, key: Key, value: Any, path: Path) -> tuple[tuple[int, Fields], ...]:
        """A list of sections, each with its place; a cable alone stands for its ends."""
        value = [] if value is None else value
        alone = isinstance(value, dict) or (key.holds == (Holder.CABLE,) and isinstance(value, str))
        if not isinstance(value, list) and not alone:
            self.add(path, f"{shown(value)} stands where a list is expected")
            return ()
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
        return tuple(sections)

    def _trunk(self, value: Any, path: Path) -> Any:
        """`all`, or VLANs by name or id, or ranges of ids."""
        if value == "all":
            return value
        vlans: list[int] = []
        for where, entry in _entries(value, path, ranges=True):
            got = self.converted(trunk_vlans, entry, where)
            vlans += [vlan for vlan in (got if got is not BAD else ()) if vlan not in vlans]
        return tuple(vlans)

    def _unknown(self, path: Path, word: str, known: dict[str, Key]) -> None:
        self._misspelt += 1
        told = habit(word, known)
        hint = f"; {told}" if told else self.names.hint(word, known) if self._misspelt <= MOST_MEANT else ""
        self.add(path, f"unknown key {shown(word)}{hint}; accepted here: {listed(known, 40)}", key=True)
