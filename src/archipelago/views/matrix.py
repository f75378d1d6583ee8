"""All pairs as text, as rows, as tables and as a figure."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import chain, islice
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from archipelago.diagnosis.places import plugged_vlan
from archipelago.errors import QueryError
from archipelago.knowledge.known import Knowledge
from archipelago.model.ends import OUTSIDE
from archipelago.reachability.arrays import Bools
from archipelago.reachability.causes import Group
from archipelago.reachability.devices import DevicePairs
from archipelago.reachability.matrix import Matrix
from archipelago.reachability.verdict import Verdict, Verdicts
from archipelago.views.face import Face, Part, set_apart
from archipelago.views.plain import plain
from archipelago.views.schema import COUNT, FINDING_KEYS, FLAG, TEXT, extended, maybe, one_of, record, several
from archipelago.views.table import Table, counted, table

if TYPE_CHECKING:
    import pandas

MOST_COLUMNS = 16
"""With more VLANs than this the grid of VLANs is a list of those that do not reach everything."""
MOST_ALIKE = 3
"""More causes of one kind at one device than this share a row."""
MOST_ROWS = 20
"""With more rows of causes than this, all of one kind share one."""
MOST_NAMES = 3
"""So many VLANs are named in one cell; the rest are counted."""
MOST_LISTED = 100_000
"""So many pairs that are cut off are listed one by one in JSON."""


class Grouped(NamedTuple):
    """The hosts by the VLAN that they stand in: names, the places of each, how many they are; how many pairs are not
    reached, of shape (VLANs, VLANs): from a VLAN (a row) to one (a column); and how many of them are cut off, the
    others being kept apart on purpose."""

    names: list[str]
    places: list[NDArray[np.int64]]
    sizes: NDArray[np.int64]
    missing: NDArray[np.signedinteger[Any]]
    cut: NDArray[np.signedinteger[Any]]

    def pairs(self, i: int) -> NDArray[np.int64]:
        """How many pairs there are from one VLAN to each."""
        pairs: NDArray[np.int64] = self.sizes[i] * self.sizes
        pairs[i] -= self.sizes[i]
        return pairs


def _verdict_values(verdict: Verdict) -> dict[str, Any]:
    return {
        "source": verdict.expectation.source,
        "target": verdict.expectation.target,
        "reached": verdict.expectation.reached,
        "holds": verdict.holds,
        "pairs": verdict.pairs,
        "broken": verdict.broken,
        "broken_by": [{"source": a, "target": b} for a, b in verdict.such_as],
        "cause": verdict.finding.kind if verdict.finding else None,
        "at": verdict.finding.at if verdict.finding else None,
        "mend": verdict.finding.mend if verdict.finding else None,
    }


def both_families(matrix: Matrix) -> str:
    """Whether the two families agree, in one line."""
    if not matrix.differing:
        return "IPv4 and IPv6 alike, wherever both ends have both"
    return f"{counted(matrix.differing, 'pair')} reached in one of IPv4 and IPv6 and not in the other"


def _group_values(group: Group) -> dict[str, Any]:
    example = {"pairs": group.pairs, "direction": group.direction, "source": group.source, "target": group.target}
    return {**example, **plain(group.finding)}


def causes(shown: Sequence[Group], title: str = "what cuts them off") -> Table:
    """What cuts pairs off, the costliest first, each with its mend. Many of one kind at one device share a row, and
    where there are very many rows, all of one kind do."""
    shared = _shared([[group] for group in shown], lambda group: (group.finding.kind, group.finding.at))
    if len(shared) > MOST_ROWS:
        shared = _shared(shared, lambda group: group.finding.kind)
    rows = [_cause(groups) for groups in sorted(shared, key=lambda groups: -sum(group.pairs for group in groups))]
    return table(title, ("pairs", "cause", "at", "why", "mend", "example"), rows, ("pairs",), ("example", "cause"))


def _shared(rows: Iterable[list[Group]], key: Callable[[Group], object]) -> list[list[Group]]:
    """The rows, those of one key in one where there are more than MOST_ALIKE of them."""
    by_finding: dict[object, list[list[Group]]] = {}
    for row in rows:
        by_finding.setdefault(key(row[0]), []).append(row)
    merged: list[list[Group]] = []
    for alike in by_finding.values():
        merged += [list(chain.from_iterable(alike))] if len(alike) > MOST_ALIKE else alike
    return merged


def _cause(groups: list[Group]) -> tuple[str, ...]:
    first, more = groups[0], len(groups) - 1
    places = list(dict.fromkeys(group.finding.at for group in groups))
    also, likewise = (f"; and {more:,} more like it", f"; {more:,} more likewise") if more else ("", "")
    return (
        f"{sum(group.pairs for group in groups):,}",
        first.finding.kind,
        first.finding.at if len(places) == 1 else f"{len(places):,} places",
        first.finding.says + also,
        first.finding.mend + likewise,
        f"{first.source} to {first.target}",
    )


def expected(verdicts: Sequence[Verdict]) -> Table:
    """What must hold, and whether it does; what is broken comes first."""
    rows = []
    for checked in sorted(verdicts, key=lambda verdict: (not verdict.broken, not verdict.idle)):
        wanted = checked.expectation
        holds = "nobody to check" if checked.idle else "holds" if checked.holds else "broken"
        such = ", ".join(f"{a} to {b}" for a, b in checked.such_as[:2])
        why, mend = (checked.finding.says, checked.finding.mend) if checked.finding else ("", "")
        share = (
            f"{checked.broken:,} of {counted(checked.pairs, 'pair')}"
            if checked.broken
            else counted(checked.pairs, "pair")
        )
        must = "yes" if wanted.reached else "no"
        by = ", ".join(map(str, wanted.probe))
        rows.append((wanted.source, wanted.target, must, by, holds, share, such, why, mend))
    columns = ("from", "to", "must reach", "by", "verdict", "pairs broken", "example", "why", "mend")
    return table("what must hold", columns, rows, least=("example", "pairs broken", "why"))


_ROWS = 256


BEYOND = -1
"""In place of a VLAN: the outside."""


def grouped(knowledge: Knowledge, matrix: Matrix) -> Grouped:
    """The hosts by VLAN, in the order of the catalogue."""
    network = knowledge.network
    by_place: dict[int | None, list[int]] = {}
    for index, name in enumerate(matrix.hosts):
        vlan = BEYOND if name == OUTSIDE else plugged_vlan(knowledge, network.hosts[name])
        by_place.setdefault(vlan, []).append(index)
    names = {number: f"{name} ({number})" for name, number in network.vlans.items()} | {BEYOND: OUTSIDE}
    order = {vlan: place for place, vlan in enumerate(names)}
    ranked = sorted(by_place.items(), key=lambda item: (order.get(item[0] or 0, len(order)), item[0] or 0))
    places = [np.array(members) for _, members in ranked]
    sizes = np.array([len(members) for members in places], dtype=np.int64)
    place = np.repeat(np.arange(len(places)), sizes)
    kinds = matrix.kind[np.concatenate(places)] if places else np.empty(0, dtype=np.int64)
    apart = matrix.beside.apart if matrix.beside is not None else None
    # 4,000 VLANs make 16 million cells: counts as small as they can be, a few rows at a time.
    small = np.min_scalar_type(-(int(sizes.max(initial=0)) ** 2) - 1)
    # How many hosts of each kind each place has; a place's kinds stand side by side.
    pairs, count = np.unique(place * len(matrix.between) + kinds, return_counts=True)
    at, kind = np.divmod(pairs, max(len(matrix.between), 1))
    first = np.searchsorted(at, np.arange(len(places) + 1))

    def lacking(reached: Bools) -> NDArray[np.signedinteger[Any]]:
        missing = np.empty((len(places), len(places)), dtype=small)
        for start in range(0, len(places), _ROWS):
            rows = slice(start, min(start + _ROWS, len(places)))
            here = slice(first[rows.start], first[rows.stop])
            begin = first[rows] - here.start
            to_kinds = np.add.reduceat(count[here, None] * reached[kind[here]], begin, axis=0)
            to_places = np.add.reduceat(to_kinds[:, kind] * count, first[:-1], axis=1)
            missing[rows] = np.multiply.outer(sizes[rows], sizes) - to_places
        if len(places):
            own = np.add.reduceat(count * np.diagonal(reached)[kind], first[:-1])
            missing[np.diag_indices_from(missing)] -= (sizes - own).astype(small)
        return missing

    missing = lacking(matrix.between)
    cut = lacking(matrix.between | apart.kinds) if apart is not None and apart.pairs else missing
    names_here = [names.get(vlan, f"VLAN {vlan}") if vlan else "no VLAN" for vlan, _ in ranked]
    return Grouped(names_here, places, sizes, missing, cut)


def partitioned(groups: Grouped) -> str:
    """Which VLANs are cut off from all others, in one line; empty where none is."""
    others = groups.sizes * (groups.sizes.sum() - groups.sizes)
    missing, cut = (cells.sum(axis=1) - np.diagonal(cells) for cells in (groups.missing, groups.cut))
    alone, apart = list[str](), list[str]()
    for name, have, lacks, lost in zip(groups.names, others, missing, cut, strict=True):
        if have and have == lacks:
            (alone if lost else apart).append(name)
    told = [f"reaching no other VLAN: {_some(alone)}"] if alone else []
    told += [f"kept apart from every other VLAN: {_some(apart)}"] if apart else []
    return "; ".join(told)


def _some(names: list[str]) -> str:
    more = len(names) - MOST_NAMES
    return ", ".join(names) if more <= 1 else f"{', '.join(names[:MOST_NAMES])} and {more} more"


def by_vlan(groups: Grouped) -> Table:
    """From each VLAN (a row) to each (a column): all, none, or how many of the pairs; apart, where all that are not
    reached are kept apart on purpose. Where that would be too wide, a row for each VLAN that is cut off from something,
    and from what."""
    sizes = groups.sizes.tolist()
    count = len(sizes)
    if count <= MOST_COLUMNS:
        rows = []
        for i in range(count):
            cells = map(_cell, groups.pairs(i).tolist(), groups.missing[i].tolist(), groups.cut[i].tolist())
            rows.append((i + 1, groups.names[i], sizes[i], *cells))
        columns = ("", "from", "hosts", *(f"to {number}" for number in range(1, count + 1)))
        return table("by VLAN", columns, rows, (columns[0], *columns[2:]))
    listed = []
    lacking = groups.cut.sum(axis=1)
    worst = np.argsort(-lacking, kind="stable")
    worst = worst[lacking[worst] > 0]
    for i in worst[:MOST_ROWS].tolist():
        pairs, missing = groups.pairs(i), groups.cut[i]
        none = (missing > 0) & (missing == pairs)
        cut = [groups.names[j] for j in np.flatnonzero(none)]
        some = np.flatnonzero((missing > 0) & ~none).tolist()
        part = [f"{groups.names[j]} {_cell(int(pairs[j]), int(missing[j]), int(missing[j]))}" for j in some]
        whole = int((missing == 0).sum())
        listed.append((groups.names[i], sizes[i], f"{whole} of {count}", _some(cut) or "-", _some(part) or "-"))
    columns = ("from", "hosts", "VLANs reached", "not reached", "in part (pairs)")
    more = f", the worst {MOST_ROWS} of {len(worst)}" if len(worst) > MOST_ROWS else ""
    return table(f"VLANs that are cut off from something{more}", columns, listed, ("hosts", "VLANs reached"))


def _cell(pairs: int, missing: int, cut: int) -> str:
    reached = pairs - missing
    apart = " apart" if missing and not cut else ""
    if not pairs or not missing:
        return "all" if pairs else "-"
    return f"{reached}/{pairs}{apart}" if reached else apart.strip() or "none"


def host_by_host(matrix: Matrix) -> Iterator[str]:
    """A line for each host, of a matrix that says what network it is of."""
    if matrix.beside is not None:
        yield from by_host(grouped(matrix.beside.knowledge, matrix), matrix)


def by_host(groups: Grouped, matrix: Matrix) -> Iterator[str]:
    """A line for each host, a mark for each target: # reached, . not reached, the same order down and across."""
    order = np.concatenate(groups.places) if groups.places else np.empty(0, dtype=np.int64)
    width = max((len(name) for name in matrix.hosts), default=0)
    yield "from each host (down) to each (across, the same order): # reached, . not reached"
    for name, places in zip(groups.names, groups.places, strict=True):
        yield name
        for i in places.tolist():
            line = matrix.between[matrix.kind[i]][matrix.kind[order]].tolist()
            marks = "".join(" " if i == j else "#" if got else "." for j, got in zip(order.tolist(), line, strict=True))
            yield f"  {matrix.hosts[i]:<{width}}  {marks}"


def csv_lines(answers: Sequence[Matrix]) -> Iterator[str]:
    """The rows of `--csv`; of several kinds of probe, each with its own."""
    several = len(answers) > 1
    yield "source,destination,reached" + (",probe" if several else "")
    for matrix in answers:
        devices = matrix.beside.devices if matrix.beside is not None else None
        for source, target, reached in chain(matrix.rows(), devices.rows() if devices is not None else ()):
            yield f"{source},{target},{'yes' if reached else 'no'}" + (f",{matrix.probe}" if several else "")


def frame(matrix: Matrix, by: str) -> pandas.DataFrame:
    """The matrix as a pandas table: by "class" (hosts that fare alike, under the name of the first, with how many they
    are), by "host", or by "pair" (columns source, destination, reached).

    Raises:
        QueryError: `by` is none of these, or there are too many hosts to lay out pair by pair.
    """
    import pandas

    if by == "class":
        _, first = np.unique(matrix.kind, return_index=True)
        names = [matrix.hosts[index] for index in first]
        index = pandas.MultiIndex.from_arrays([names, matrix.sizes], names=["like", "hosts"])
        return pandas.DataFrame(matrix.between, index=index, columns=pandas.Index(names, name="like"))
    every = np.arange(len(matrix.hosts))
    if by == "host":
        return pandas.DataFrame(matrix.block(every, every), index=list(matrix.hosts), columns=list(matrix.hosts))
    if by == "pair":
        i, j = np.nonzero(~np.eye(len(every), dtype=np.bool_))
        names_of = np.array(matrix.hosts, dtype=object)
        reached = matrix.block(every, every)[i, j]
        return pandas.DataFrame({"source": names_of[i], "destination": names_of[j], "reached": reached})
    raise QueryError(f"'{by}' is none of class, host and pair")


def by_device(devices: DevicePairs) -> Table:
    """A row for each device: how many pairs towards and from its addresses are reached."""
    rows = [
        (
            one.device,
            one.addresses,
            _of(one.towards_reached, one.towards),
            _of(one.onwards_reached, one.onwards),
            " to ".join(one.example or ()),
        )
        for one in devices.by_device()
    ]
    columns = ("device", "addresses", "reached from others", "others reached", "not reached, such as")
    return table("devices' addresses", columns, rows, columns[1:4])


def _of(reached: int, asked: int) -> str:
    return f"{reached:,} of {asked:,}"


def tables(matrix: Matrix) -> list[Table]:
    """What must hold, what cuts pairs off, and VLAN by VLAN; devices' addresses where they were asked."""
    beside = matrix.beside
    return _tables(matrix, grouped(beside.knowledge, matrix) if beside is not None else None)


def body(matrix: Matrix) -> Iterator[Part]:
    """Whether the families agree and what must hold, then the tables."""
    beside = matrix.beside
    groups = None
    if beside is not None:
        if beside.six is not None:
            yield both_families(matrix)
        if beside.checked is not None and beside.checked.verdicts:
            yield Verdicts(beside.checked.verdicts).headline
        groups = grouped(beside.knowledge, matrix)
        if beside.devices is not None:
            yield f"devices' addresses: {_of(beside.devices.reached, beside.devices.counted)} pairs reached"
        apart = partitioned(groups)
        if apart:
            yield apart
    yield from set_apart(_tables(matrix, groups))


def _tables(matrix: Matrix, groups: Grouped | None) -> list[Table]:
    beside = matrix.beside
    if beside is None or groups is None:
        return [causes(matrix.groups)]
    return [
        expected(beside.checked.verdicts if beside.checked else ()),
        causes(matrix.groups),
        causes(beside.only_six, "what cuts them off in IPv6 only"),
        by_vlan(groups),
        *([by_device(beside.devices)] if beside.devices is not None else []),
    ]


def values(matrix: Matrix) -> dict[str, Any]:
    """The answer with the keys of `--json`."""
    return {**_values(matrix), "others": []}


def several_values(answers: Sequence[Matrix]) -> dict[str, Any]:
    """The answers for several kinds of probe: the first, and the others in a list."""
    first, *others = map(_values, answers)
    return {**first, "others": others}


def _values(matrix: Matrix) -> dict[str, Any]:
    beside = matrix.beside
    cut = ({"source": a, "target": b} for a, b, reached in matrix.rows() if not reached)
    six = beside.six if beside is not None else None
    checked = beside.checked if beside is not None else None
    return {
        "probe": str(matrix.probe),
        "pairs": matrix.pairs,
        "reached": matrix.reached,
        "kept_apart": beside.apart.pairs if beside is not None and beside.apart is not None else 0,
        "causes": [_group_values(group) for group in matrix.groups],
        "unreached": list(islice(cut, MOST_LISTED)) if matrix.reached < matrix.pairs else [],
        "differing": matrix.differing,
        "ipv6": None
        if six is None or beside is None
        else {"reached": six.reached, "causes": [_group_values(group) for group in beside.only_six]},
        "expectations": [_verdict_values(verdict) for verdict in checked.verdicts] if checked else [],
        "devices": _device_values(beside.devices) if beside is not None and beside.devices is not None else None,
    }


def _device_values(devices: DevicePairs) -> dict[str, Any]:
    cut = ({"source": a, "target": b} for a, b, reached in devices.rows() if not reached)
    return {
        "pairs": devices.counted,
        "reached": devices.reached,
        "unreached": list(islice(cut, MOST_LISTED)) if devices.reached < devices.counted else [],
    }


_GROUP = record(
    pairs=COUNT("how many it cuts off"),
    direction=one_of("out", "back"),
    source=TEXT("of an example"),
    target=TEXT("of the same"),
    **FINDING_KEYS,
)
_PAIR = record(source=TEXT, target=TEXT)
_VERDICT = record(
    source=TEXT,
    target=TEXT,
    reached=FLAG("what must be so"),
    holds=FLAG,
    pairs=COUNT,
    broken=COUNT("how many pairs break it"),
    broken_by=several(_PAIR)("the first 1,000 of them"),
    cause=maybe(TEXT)("the kind of mistake"),
    at=maybe(TEXT)("who holds it"),
    mend=maybe(TEXT),
)
_ONE = record(
    probe=TEXT("what was sent"),
    pairs=COUNT("ordered pairs of hosts"),
    reached=COUNT("how many of them are reached"),
    kept_apart=COUNT("how many are not, and are not to be, by the policy or what is expected"),
    causes=several(_GROUP),
    unreached=several(_PAIR)("the first 100,000 of them"),
    differing=COUNT("pairs reached in one address family and not in the other"),
    ipv6=maybe(record(reached=COUNT, causes=several(_GROUP)))("where both families are there: causes only IPv6 has"),
    expectations=several(_VERDICT),
    devices=maybe(
        record(
            pairs=COUNT("ordered pairs with an address of a device at an end"),
            reached=COUNT("how many of them are reached"),
            unreached=several(_PAIR)("the first 100,000 of them"),
        )
    )("with --devices"),
)


MATRIX = Face(
    name="matrix",
    verb="matrix",
    shape=extended(_ONE, others=several(_ONE)("of several kinds of probe those after the first")),
    values=values,
    tables=tables,
    body=body,
    picture="matrix_picture.matrix_picture",
)
EXPECTATIONS = Face(
    name="expectations",
    verb="matrix",
    shape=record(holds=FLAG("whether all do"), expectations=several(_VERDICT)),
    values=lambda verdicts: {"holds": bool(verdicts), "expectations": [_verdict_values(one) for one in verdicts]},
    tables=lambda verdicts: [expected(verdicts)],
    rows=lambda verdicts: [_verdict_values(one) for one in verdicts],
)
