"""Parts declared in bulk: `crew-{1..180}: {at: "quay-{1..8}/p{1..24}"}` is 180 hosts, `floor-{1..40}: {...}` is 40
devices.

A range in braces stands for each of its texts, several ranges for each combination, the last one running fastest. What
a part says walks along with the range in its name (`files/ranges.walking`); what no range walks with stays as it is.
Hosts take their places in order, as many as there are hosts; an address without a range is that of the first host, the
others count up from it. What is written later of one of them, such as `crew-7: {gateway: 10.44.1.2}`, adds to what the
bulk says, or says otherwise; a list takes the place of a list. Cables walk from end to end:
`core/{1..40} ~ floor-{1..40}/48`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from functools import cache
from itertools import cycle
from typing import Any, NamedTuple

from archipelago.addressing.values import InterfaceAddress, parse_interface_address
from archipelago.errors import AddressError
from archipelago.files.codecs import LEARNED, MOST_PORTS, name
from archipelago.files.ranges import Nth, Wrong, count_of, ranged, shown, sizes_of, texts, walking, without_member
from archipelago.files.sections import BAD, Fields, Reader
from archipelago.model.key import Holder, Key, Value
from archipelago.model.keys import keys_of
from archipelago.model.parts import End, Path

MOST = 2_000_000
"""The most parts that the ranges of one file make."""
Noted = Callable[[Path, str], None]
"""Takes what is wrong with a range, and where."""


class TooManyError(Exception):
    """The ranges of a file make more than is read."""

    def __init__(self, path: Path) -> None:
        super().__init__(f"the ranges of the file make more than {MOST:,} parts; so many are read at most")
        self.path = path


class Total:
    """How many parts the ranges of a file make, bounded before any is made."""

    def __init__(self) -> None:
        self._made = 0

    def add(self, path: Path, count: int) -> None:
        """Count some more.

        Raises:
            TooManyError: there are too many.
        """
        self._made += count
        if self._made > MOST:
            raise TooManyError(path)


# What has names


class WrittenOut(NamedTuple):
    """A document with its ranges written out, but those of hosts: its data; of each part that a range made where the
    range stands; of each cable the number of its entry, and which cable of that entry it is (None: it is alone)."""

    value: dict[str, Any]
    origins: dict[Path, Path]
    cables: list[tuple[int, int | None]]


def written_out(document: dict[str, Any], holder: Holder, total: Total, noted: Noted) -> WrittenOut:
    """A document with its VLANs, devices, their ports, interfaces and so on, and its cables written out.

    Args:
        document: its plain data, which is left as it is.
        holder: what kind of document it is.
        total: counts what is made.
        noted: takes what is wrong.

    Raises:
        TooManyError: the ranges make too much.
    """
    writer = _Writer(total, noted)
    value: dict[str, Any] = dict(document)
    for key in _named(holder):
        if key.name != "hosts" and isinstance(value.get(key.name), dict):
            value[key.name] = writer.entries(value[key.name], key.holds, (key.name,))
    cables, origins = writer.cables(value.get("cables"))
    if cables is not None:
        value["cables"] = cables
    return WrittenOut(value, writer.origins, origins)


@cache
def _named(holder: Holder) -> tuple[Key, ...]:
    """The keys of a section whose entries have names."""
    return tuple(key for key in keys_of(holder) if key.value is Value.NAMED)


class _Writer:
    """Writes ranges out, the inner ones first: what walks along with a port's name does not with its device's."""

    def __init__(self, total: Total, noted: Noted) -> None:
        self.origins: dict[Path, Path] = {}
        self._total = total
        self._noted = noted

    def entries(self, entries: dict[str, Any], holds: tuple[Holder, ...], path: Path) -> dict[str, Any]:
        """Named entries, each range as the entries that it stands for."""
        groups = [key for holder in dict.fromkeys(holds) for key in _named(holder)]
        made: dict[str, Any] = {}
        for word, value in entries.items():
            where = (*path, word)
            value = self._section(value, groups, where)
            if not ranged(word):
                made[word] = merged(made[word], value) if word in made else value
                continue
            size = self._size(where, value)
            walk = Walk(word) if size else None
            for number, member in enumerate(texts(word) if size else ()):
                assert walk is not None
                own = walk.member(value, number)
                made[member] = merged(made[member], own) if member in made else own
                self.origins.setdefault((*path, member), where)
        return made

    def _section(self, value: Any, groups: list[Key], path: Path) -> Any:
        if isinstance(value, dict):
            for key in groups:
                inner = value.get(key.name)
                if isinstance(inner, dict) and inner:
                    written = self.entries(inner, key.holds, (*path, key.name))
                    if written != inner:
                        value = {**value, key.name: written}
        return value

    def _size(self, path: Path, value: Any) -> int:
        """How many entries a range stands for; 0 where it cannot be read."""
        word = str(path[-1])
        try:
            size = count_of(word)
            if size > MOST_PORTS:
                raise Wrong(f"{shown(word)} is {size:,} of them; at most {MOST_PORTS:,} are read")
        except Wrong as error:
            self._noted(path, str(error))
            return 0
        self._total.add(path, size * _parts_of(value))
        return size

    def cables(self, value: Any) -> tuple[list[Any] | None, list[tuple[int, int | None]]]:
        """The cables with their ranges written out, and where each comes from; None where there are no ranges."""
        entries = value if isinstance(value, list) else [value] if isinstance(value, (str, dict)) else []
        if not any(ranged(_ends_of(entry)) for entry in entries):
            return None, [(number, None) for number in range(len(entries))]
        made: list[Any] = []
        origins: list[tuple[int, int | None]] = []
        for number, entry in enumerate(entries):
            written = cables_of_range(entry) if ranged(_ends_of(entry)) else None
            if isinstance(written, str):
                self._noted(("cables", number) if isinstance(value, list) else ("cables",), written)
            elif written is None:
                made.append(entry)
                origins.append((number, None))
            else:
                self._total.add(("cables", number), len(written))
                made += written
                origins += [(number, member) for member in range(len(written))]
        return made, origins


def _parts_of(value: Any) -> int:
    """How many sections a value is, with those in it."""
    if isinstance(value, dict):
        return 1 + sum(map(_parts_of, value.values()))
    return sum(map(_parts_of, value)) if isinstance(value, list) else 1


def merged(first: Any, later: Any) -> Any:
    """What is written of a part twice: sections together, of anything else what is written later."""
    if not isinstance(first, dict) or not isinstance(later, dict):
        return later
    both = {word: merged(first[word], value) for word, value in later.items() if word in first}
    return {**first, **later, **both}


class Walk:
    """Says what each member of a range of names has of what is written for all of them."""

    def __init__(self, word: str) -> None:
        self._word = word
        self._texts: dict[str, Nth | None] = {}
        self._plain: dict[int, Any] = {}

    def member(self, value: Any, number: int) -> Any:
        """A value for the member of a number; the value itself where nothing of it walks along."""
        return self._own(value, number, {})

    def _own(self, value: Any, number: int, done: dict[int, Any]) -> Any:
        if isinstance(value, str):
            nth = self._walking(value) if ranged(value) else None
            return value if nth is None else nth(number)
        if not isinstance(value, (dict, list)) or id(value) in self._plain:
            return value
        if id(value) not in done:
            own: Any
            if isinstance(value, dict):
                own = {word: self._own(inner, number, done) for word, inner in value.items()}
                same = all(own[word] is inner for word, inner in value.items())
            else:
                own = [self._own(inner, number, done) for inner in value]
                same = all(map(_is, own, value))
            if same:
                self._plain[id(value)] = value  # kept, so that its identity stays its own
            done[id(value)] = value if same else own
        return done[id(value)]

    def _walking(self, text: str) -> Nth | None:
        if text not in self._texts:
            self._texts[text] = walking(text, self._word)
        return self._texts[text]


def _is(one: Any, other: Any) -> bool:
    return one is other


def _ends_of(entry: Any) -> Any:
    return entry.get("ends") if isinstance(entry, dict) else entry


def cables_of_range(entry: Any) -> list[Any] | str:
    """The cables that an entry with ranges stands for, the ends in step; what is wrong with it, in words, where they
    are not as many at both ends."""
    written = str(_ends_of(entry))
    ends = [end.strip() for end in written.split("~")]
    try:
        sizes = [count_of(end) for end in ends]
    except Wrong as error:
        return str(error)
    if len(ends) != 2 or max(sizes) > MOST_PORTS:
        told = f"is more than {MOST_PORTS:,} cables" if len(ends) == 2 else "is no cable; DEVICE/PORT ~ DEVICE/PORT is"
        return f"{shown(written)} {told}"
    if sizes[0] != sizes[1]:
        first, second = (f"{shown(end)} is {size:,}" for end, size in zip(ends, sizes, strict=True))
        return f"{first} and {second}; a range of cables has as many ports at both ends"
    pairs = [f"{a} ~ {b}" for a, b in zip(*map(texts, ends), strict=True)]
    return [{**entry, "ends": pair} for pair in pairs] if isinstance(entry, dict) else pairs


def cables_without(entry: Any, member: int) -> Any:
    """A range of cables without the one of a number; None where that takes more than a range at each end."""
    ends = [without_member(end.strip(), member) for end in str(_ends_of(entry)).split("~")]
    if None in ends:
        return None
    written = " ~ ".join(map(str, ends))
    return {**entry, "ends": written} if isinstance(entry, dict) else written


def opened(reader: Reader, holder: Holder, host: Holder) -> list[Bulk]:
    """Write the ranges of a reader's document out and read its catalogue of VLANs, before anything else is read.

    Args:
        reader: has the document.
        holder: what kind of document it is.
        host: what its hosts are.

    Returns:
        The ranges of hosts, which are made once the rest is read.

    Raises:
        DocumentError: the ranges make too much.
    """
    total = Total()
    try:
        _write_out(reader, holder, total)
        reader.catalogue(holder)
        return take_out(reader, host, total)
    except TooManyError as error:
        reader.add(error.path, str(error), key=True)
        reader.finish()
        raise


def _write_out(reader: Reader, holder: Holder, total: Total) -> None:
    """Write the ranges out, but those of hosts, and mark what they make."""
    tree = reader.tree
    made = written_out(tree.value, holder, total, lambda path, told: reader.add(path, told, key=path[0] != "cables"))
    _mark_parts(tree.marks, made.origins)
    if made.value.get("cables") is not tree.value.get("cables"):
        _mark_cables(tree.marks, made.cables)
    tree.value = made.value


def _mark_parts(marks: dict[Path, Any], origins: Mapping[Path, Path]) -> None:
    """Mark what ranges made where it is written; of a device all that is in it."""
    inside: dict[Path, list[tuple[Path, Any]]] = {origin: [] for origin in origins.values()}
    deep = {origin for origin in inside if len(origin) == 2 and origin[0] == "devices"}
    for path, mark in list(marks.items()) if deep else ():
        if path[:2] in deep:
            inside[path[:2]].append((path[2:], mark))
    for path, origin in origins.items():
        if origin in marks:
            marks.setdefault(path, marks[origin])
        for rest, mark in inside[origin]:
            marks.setdefault((*path, *rest), mark)


def _mark_cables(marks: dict[Path, Any], origins: list[tuple[int, int | None]]) -> None:
    """Mark each cable where its entry stands."""
    before: dict[Any, list[tuple[Path, Any]]] = {}
    for path in [path for path in marks if path[:1] == ("cables",) and len(path) > 1]:
        before.setdefault(path[1], []).append((path[2:], marks.pop(path)))
    whole = marks.get(("cables",))
    for number, (entry, _) in enumerate(origins):
        for rest, mark in before.get(entry, [((), whole)] if whole is not None else []):
            marks[("cables", number, *rest)] = mark


# Hosts


class Bulk(NamedTuple):
    """Some hosts declared at once: the pattern of their names, how many there are, the pattern of their places, what
    they have in common as fields, and as it is written; whether what it says walks along with their names."""

    key: str
    size: int
    at: str
    fields: Fields
    written: Mapping[str, Any]
    walks: bool

    def places(self) -> Iterator[str]:
        """Where each is plugged in: the places in their order, over again where they are fewer; those of other braces
        of the same sizes go with those braces."""
        sizes, names = sizes_of(self.at), sizes_of(self.key)
        nth = walking(self.at, self.key) if sizes != names and sorted(sizes) == sorted(names) else None
        return cycle(texts(self.at)) if nth is None else map(nth, range(self.size))


def take_out(reader: Reader, holder: Holder, total: Total) -> list[Bulk]:
    """Take the entries with ranges out of a document's `hosts`, so that those left are single hosts."""
    hosts = reader.tree.value.get("hosts")
    if not isinstance(hosts, dict):
        return []
    order = {key: number for number, key in enumerate(hosts)}
    keys = [key for key in hosts if ranged(key)]
    if keys:
        reader.tree.value["hosts"] = hosts = dict(hosts)  # an alias may stand for it elsewhere too
    bulks = [bulk for key in keys if (bulk := _bulk(reader, key, hosts.pop(key), holder, total)) is not None]
    walking_along = [bulk for bulk in bulks if bulk.walks]
    for bulk in bulks if hosts or walking_along else ():
        _complete(hosts, bulk, order)
    made: dict[Path, Path] = {
        ("hosts", host): ("hosts", bulk.key) for bulk in walking_along for host in texts(bulk.key)
    }
    _mark_parts(reader.tree.marks, made)
    return [bulk for bulk in bulks if not bulk.walks]


def _bulk(reader: Reader, key: str, value: Any, holder: Holder, total: Total) -> Bulk | None:
    path: Path = ("hosts", key)
    before = len(reader.problems)
    at = value.get("at") if isinstance(value, dict) else None
    try:
        size = count_of(key)
        name(next(texts(key)))
    except Wrong as error:
        reader.add(path, str(error), key=True)
        return None
    first, walks = value, False
    if isinstance(value, dict):
        others = {word: item for word, item in value.items() if word != "at"}
        own = Walk(key).member(others, 0) if size <= MOST else others
        first, walks = {word: own.get(word, item) for word, item in value.items()}, own is not others
    if isinstance(value, dict) and isinstance(at, str):
        try:
            places = count_of(at)
            first = {**first, "at": next(texts(at))}
            if "/" in at and places < size:
                told = f"{shown(at)} is {places:,} ports for the {size:,} hosts of {shown(key)}; each needs its own"
                reader.add((*path, "at"), told)
        except Wrong as error:
            reader.add((*path, "at"), str(error))
            return None
    section = reader.section((holder,), first, path)
    if section is BAD or len(reader.problems) > before:
        return None
    total.add(path, size)
    fields = section[1]
    for field in () if ranged_in(value.get("address")) else fields["addresses"]:
        if field not in LEARNED and field.value + size - 1 > field.prefix.usable()[1]:
            told = f"{size:,} hosts from {field} on do not fit into {field.prefix}; widen or move it"
            reader.add((*path, "address"), told)
    return Bulk(key, size, str(at), fields, value, walks) if len(reader.problems) == before else None


def ranged_in(value: Any) -> bool:
    """Whether a value, or a text of a list, holds a range."""
    return any(map(ranged, value)) if isinstance(value, list) else ranged(value)


def host_of_range(key: str, written: Mapping[str, Any], number: int, walk: Walk | None = None) -> dict[str, Any]:
    """What a range of hosts says of its member of a number, but where that is plugged in."""
    own = dict((walk or Walk(key)).member({word: item for word, item in written.items() if word != "at"}, number))
    if "address" in written and not ranged_in(written["address"]):
        listed = own["address"] if isinstance(own["address"], list) else [own["address"]]
        counted_up = [_counted_text(text, number) for text in listed]
        own["address"] = counted_up if isinstance(own["address"], list) else counted_up[0]
    return own


def _counted_text(text: Any, number: int) -> Any:
    """An address so many further on, as text; what is none stays."""
    try:
        address = parse_interface_address(str(text))
    except AddressError:
        return text
    return str(InterfaceAddress(address.version, address.value + number, address.length))


def _complete(hosts: dict[str, Any], bulk: Bulk, order: Mapping[str, int]) -> None:
    """Give single entries that belong to a bulk the keys that they do not have of their own; where the bulk is written
    later, what it says stands. Of a bulk that walks along with its names each host gets an entry."""
    walk = Walk(bulk.key)
    for number, (host, at) in enumerate(zip(texts(bulk.key), bulk.places(), strict=False)):
        own = hosts.get(host, {} if bulk.walks else None)
        if isinstance(own, dict):
            common = {**host_of_range(bulk.key, bulk.written, number, walk), "at": at}
            hosts[host] = {**own, **common} if order[bulk.key] > order.get(host, -1) else {**common, **own}


def _counted(bulk: Bulk, number: int) -> list[InterfaceAddress | str]:
    addresses = bulk.fields["addresses"]
    return [
        address if address in LEARNED else InterfaceAddress(address.version, address.value + number, address.length)
        for address in addresses
    ]


def members(reader: Reader, bulks: list[Bulk], single: Mapping[str, Any]) -> Iterator[tuple[str, Fields]]:
    """Each host of each bulk with its fields, which are good until the next is asked for, but those that have an entry
    of their own."""
    seen: set[str] = set()
    marks = reader.tree.marks
    for bulk in bulks:
        mark = marks.get(("hosts", bulk.key))
        fields = dict(bulk.fields)
        where = "at" if "at" in fields else "place"
        counted = any(address not in LEARNED for address in fields["addresses"])
        hosts = list(texts(bulk.key))
        twice = seen.intersection(hosts)
        if twice:
            told = f"'{min(twice)}' is in another bulk too; each host has one place"
            reader.add(("hosts", bulk.key), told, key=True)
            return
        seen.update(hosts)
        if mark is not None:
            for host in hosts:
                marks.setdefault(("hosts", host), mark)
        for number, (host, place) in enumerate(zip(hosts, bulk.places(), strict=False)):
            if host not in single:
                device, _, port = place.partition("/")
                fields[where] = End(device, port) if port else (device, None)
                if counted:
                    fields["addresses"] = tuple(_counted(bulk, number))
                yield host, fields
