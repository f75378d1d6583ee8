"""All pairs as text, as rows, as tables and as a figure."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from io import BytesIO
from itertools import chain, pairwise
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from archipelago.diagnosis.places import plugged_vlan
from archipelago.errors import QueryError
from archipelago.knowledge.known import Knowledge
from archipelago.reachability.causes import Group
from archipelago.reachability.expect import Verdict
from archipelago.reachability.matrix import Matrix
from archipelago.views.plain import plain
from archipelago.views.table import Table, counted, table

if TYPE_CHECKING:
    import pandas
    from matplotlib.figure import Figure

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
MOST_DRAWN = 3_000
"""With more hosts than this the figure has a cell for each pair of VLANs."""


class Grouped(NamedTuple):
    """The hosts by the VLAN that they stand in: names, the places of each, and, VLAN by VLAN, how many pairs there are
    and how many of them are reached."""

    names: list[str]
    places: list[NDArray[np.int64]]
    pairs: NDArray[np.int64]
    reached: NDArray[np.int64]


def headline(matrix: Matrix) -> str:
    """The answer in one line."""
    text = f"{matrix.count:,} of {counted(matrix.pairs, 'pair')} reached"
    return text if matrix.count == matrix.pairs else f"{text}; {counted(matrix.pairs - matrix.count, 'pair')} cut off"


def verdict_values(one: Verdict) -> dict[str, Any]:
    """A verdict with the keys of `--json`."""
    return {
        "from": one.expectation.source,
        "to": one.expectation.target,
        "reached": one.expectation.reached,
        "holds": one.holds,
        "pairs": one.pairs,
        "broken": one.broken,
        "broken_by": [{"source": a, "target": b} for a, b in one.such_as],
        "cause": one.finding.slug if one.finding else None,
        "at": one.finding.at if one.finding else None,
        "mend": one.finding.mend if one.finding else None,
    }


def promise(verdicts: Sequence[Verdict]) -> str:
    """How many expectations hold, in one line."""
    broken = sum(not one.holds for one in verdicts)
    every = f"what must hold: {counted(len(verdicts), 'expectation')}"
    return f"{every}, {broken} broken" if broken else f"{every}, each holds"


def both_families(matrix: Matrix) -> str:
    """Whether the two families agree, in one line."""
    if not matrix.differing:
        return "IPv4 and IPv6 alike, wherever both ends have both"
    return f"{counted(matrix.differing, 'pair')} reached in one of IPv4 and IPv6 and not in the other"


def group_values(one: Group) -> dict[str, Any]:
    """A cause with the keys of `--json`."""
    example = {"pairs": one.pairs, "direction": one.direction, "source": one.source, "target": one.target}
    return {**example, **plain(one.finding)}


def causes(found: Sequence[Group], title: str = "what cuts them off") -> Table:
    """What cuts pairs off, the costliest first, each with its mend. Many of one kind at one device share a row, and
    where there are very many rows, all of one kind do."""
    shared = _shared([[one] for one in found], lambda one: (one.finding.slug, one.finding.at))
    if len(shared) > MOST_ROWS:
        shared = _shared(shared, lambda one: one.finding.slug)
    rows = [_cause(groups) for groups in sorted(shared, key=lambda groups: -sum(one.pairs for one in groups))]
    return table(title, ("pairs", "cause", "at", "why", "mend", "such as"), rows, ("pairs",))


def _shared(rows: Iterable[list[Group]], key: Callable[[Group], object]) -> list[list[Group]]:
    """The rows, those of one key in one where there are more than MOST_ALIKE of them."""
    found: dict[object, list[list[Group]]] = {}
    for row in rows:
        found.setdefault(key(row[0]), []).append(row)
    merged: list[list[Group]] = []
    for alike in found.values():
        merged += [list(chain.from_iterable(alike))] if len(alike) > MOST_ALIKE else alike
    return merged


def _cause(groups: list[Group]) -> tuple[str, ...]:
    first, more = groups[0], len(groups) - 1
    places = list(dict.fromkeys(one.finding.at for one in groups))
    also, likewise = (f"; and {more:,} more like it", f"; {more:,} more likewise") if more else ("", "")
    return (
        f"{sum(one.pairs for one in groups):,}",
        first.finding.slug,
        first.finding.at if len(places) == 1 else f"{len(places):,} places",
        first.finding.says + also,
        first.finding.mend + likewise,
        f"{first.source} to {first.target}",
    )


def expected(verdicts: Sequence[Verdict]) -> Table:
    """What must hold, and whether it does; what is broken comes first."""
    rows = []
    for one in sorted(verdicts, key=lambda verdict: verdict.holds):
        wanted = one.expectation
        holds = "nothing to check" if not one.pairs else "holds" if one.holds else "broken"
        such = ", ".join(f"{a} to {b}" for a, b in one.such_as[:2])
        why, mend = (one.finding.says, one.finding.mend) if one.finding else ("", "")
        found = f"{one.broken:,} of {counted(one.pairs, 'pair')}" if one.broken else counted(one.pairs, "pair")
        rows.append((wanted.source, wanted.target, "yes" if wanted.reached else "no", holds, found, such, why, mend))
    columns = ("from", "to", "reached", "verdict", "of", "such as", "why", "mend")
    return table("what must hold", columns, rows)


def grouped(knowledge: Knowledge, matrix: Matrix) -> Grouped:
    """The hosts by VLAN, in the order of the catalogue."""
    network = knowledge.network
    found: dict[int | None, list[int]] = {}
    for index, name in enumerate(matrix.hosts):
        found.setdefault(plugged_vlan(knowledge, network.hosts[name]), []).append(index)
    names = {number: f"{name} ({number})" for name, number in network.vlans.items()}
    order = {vlan: place for place, vlan in enumerate(names)}
    ranked = sorted(found.items(), key=lambda item: (order.get(item[0] or 0, len(order)), item[0] or 0))
    places = [np.array(one) for _, one in ranked]
    among = np.zeros((len(places), len(matrix.between)))
    for number, one in enumerate(places):
        among[number] = np.bincount(matrix.kind[one], minlength=among.shape[1])
    reached = np.rint(among @ matrix.between @ among.T).astype(np.int64)
    own = np.rint(among @ np.diagonal(matrix.between)).astype(np.int64)
    sizes = np.array([len(one) for one in places], dtype=np.int64)
    pairs = np.multiply.outer(sizes, sizes)
    for cells, less in ((reached, own), (pairs, sizes)):
        cells[np.diag_indices_from(cells)] -= less
    return Grouped(
        [names.get(vlan, f"VLAN {vlan}") if vlan else "no VLAN" for vlan, _ in ranked], places, pairs, reached
    )


def parted(groups: Grouped) -> str:
    """Which VLANs are cut off from all others, in one line; empty where none is."""
    others = groups.pairs.sum(axis=1) - np.diagonal(groups.pairs)
    got = groups.reached.sum(axis=1) - np.diagonal(groups.reached)
    alone = [name for name, have, reach in zip(groups.names, others, got, strict=True) if have and not reach]
    return f"reaching no other VLAN: {_some(alone)}" if alone else ""


def _some(names: list[str]) -> str:
    more = len(names) - MOST_NAMES
    return ", ".join(names) if more <= 1 else f"{', '.join(names[:MOST_NAMES])} and {more} more"


def by_vlan(groups: Grouped) -> Table:
    """From each VLAN (a row) to each (a column): all, none, or how many of the pairs. Where that would be too wide,
    a row for each VLAN that does not reach everything, and what it does not reach."""
    sizes = [len(one) for one in groups.places]
    count = len(sizes)
    if count <= MOST_COLUMNS:
        rows = []
        for i in range(count):
            cells = [_cell(int(groups.pairs[i, j]), int(groups.reached[i, j])) for j in range(count)]
            rows.append((i + 1, groups.names[i], sizes[i], *cells))
        columns = ("", "from", "hosts", *(f"to {number}" for number in range(1, count + 1)))
        return table("by VLAN", columns, rows, (columns[0], *columns[2:]))
    short = groups.reached < groups.pairs
    none = short & (groups.reached == 0)
    listed = []
    worst = np.argsort((groups.reached - groups.pairs).sum(axis=1), kind="stable")
    worst = worst[np.any(short[worst], axis=1)]
    for i in worst[:MOST_ROWS].tolist():
        whole = int((~short[i]).sum())
        cut = [groups.names[j] for j in np.flatnonzero(none[i])]
        part = [
            f"{groups.names[j]} {_cell(*_pair(groups, i, j))}" for j in np.flatnonzero(short[i] & ~none[i]).tolist()
        ]
        listed.append((groups.names[i], sizes[i], f"{whole} of {count}", _some(cut) or "-", _some(part) or "-"))
    columns = ("from", "hosts", "VLANs reached", "not reached", "in part (pairs)")
    more = f", the worst {MOST_ROWS} of {len(worst)}" if len(worst) > MOST_ROWS else ""
    return table(f"VLANs that do not reach everything{more}", columns, listed, ("hosts", "VLANs reached"))


def _pair(groups: Grouped, i: int, j: int) -> tuple[int, int]:
    return int(groups.pairs[i, j]), int(groups.reached[i, j])


def _cell(pairs: int, reached: int) -> str:
    return "-" if not pairs else "all" if reached == pairs else "none" if not reached else f"{reached}/{pairs}"


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


def csv_lines(matrix: Matrix) -> Iterator[str]:
    """The rows of `--csv`."""
    yield "source,destination,reached"
    for source, target, reached in matrix.rows():
        yield f"{source},{target},{'yes' if reached else 'no'}"


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


def figure(knowledge: Knowledge, matrix: Matrix, name: str) -> bytes:
    """The matrix as the bytes of an SVG or PNG file: hosts grouped by VLAN, a cell for each pair; of very many hosts,
    a cell for each pair of VLANs.

    Raises:
        QueryError: the name ends in neither .svg nor .png.
    """
    kind = name.rpartition(".")[2].lower()
    if kind not in ("svg", "png"):
        raise QueryError(f"'{name}' ends in neither .svg nor .png; the figure is drawn as one of the two")
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.colors import ListedColormap
    from matplotlib.figure import Figure

    groups = grouped(knowledge, matrix)
    coarse = len(matrix.hosts) > MOST_DRAWN
    order = np.concatenate(groups.places) if groups.places else np.empty(0, dtype=np.int64)
    if coarse:
        values = np.where(groups.reached == groups.pairs, 3, np.where(groups.reached == 0, 0, 1))
        values[groups.pairs == 0] = 2
        sizes = [1] * len(groups.names)
    else:
        values = matrix.block(order, order).astype(int) * 3
        np.fill_diagonal(values, 2)
        sizes = [len(one) for one in groups.places]
    cells = len(values)
    drawn = Figure(figsize=(12.8, 10.4))
    axes = drawn.add_axes((0.13, 0.03, 0.72, 0.76))
    colours = ListedColormap([CUT, PARTLY, "#ffffff", REACHED])
    axes.imshow(values, cmap=colours, vmin=0, vmax=3, interpolation="nearest", aspect="auto")
    starts = np.cumsum([0, *sizes])
    for start in starts if len(starts) <= 120 else ():
        axes.axhline(start - 0.5, color="#33474f", lw=0.8 if len(starts) <= 60 else 0.3)
        axes.axvline(start - 0.5, color="#33474f", lw=0.8 if len(starts) <= 60 else 0.3)
    if cells <= 60 and not coarse:
        ticks, labels = [float(at) for at in range(cells)], [matrix.hosts[index] for index in order]
    else:
        ticks, labels = _ticks(groups, starts)
    size = 8.0 if len(ticks) <= 45 else 6.5
    axes.set_xticks(ticks, labels, rotation=90, fontsize=size)
    axes.set_yticks(ticks, labels, fontsize=size)
    axes.tick_params(length=0, top=False, bottom=False, labeltop=True, labelbottom=False)
    if cells <= 60 and not coarse:
        for name_text, count, start in zip(groups.names, sizes, starts, strict=False):
            axes.text(cells - 0.3, start + count / 2 - 0.5, name_text, fontsize=8, va="center")
    for i, j in zip(*np.nonzero(values == 0), strict=True) if cells <= 40 else ():
        axes.text(j, i, "×", fontsize=9, color="white", ha="center", va="center")
    _captions(drawn, matrix, coarse)
    buffer = BytesIO()
    with matplotlib.rc_context({"svg.fonttype": "none", "svg.hashsalt": "archipelago"}):
        drawn.savefig(buffer, format=kind, dpi=100, metadata={"Date": None} if kind == "svg" else None)
    return buffer.getvalue()


def _captions(drawn: Figure, matrix: Matrix, coarse: bool) -> None:
    """The answer above the figure, how to read it, and the first causes."""
    drawn.text(0.02, 0.975, headline(matrix), fontsize=14, weight="bold", color="#1f2d33", va="top")
    who = "VLAN" if coarse else "host"
    legend = (
        f"from the row's {who} to the column's {who}: pale: reached; dark, crossed where there is room: not reached"
    )
    if coarse:
        legend += "; between: in part"
    drawn.text(0.02, 0.945, legend, fontsize=9, color="#33474f", va="top")
    for number, row in enumerate(causes(matrix.groups).rows[:3]):
        text = f"{row[0]} pairs: {row[3]} ({row[2]}); {row[4]}"
        drawn.text(0.02, 0.92 - 0.022 * number, _cropped(text), fontsize=9, color="#1f2d33", va="top")


def _cropped(text: str) -> str:
    return text if len(text) <= 190 else f"{text[:187]}..."


REACHED, PARTLY, CUT = "#dcebe2", "#e0b04c", "#8f2d1b"


def _ticks(groups: Grouped, starts: NDArray[np.int64]) -> tuple[list[float], list[str]]:
    """A label for each VLAN, at its middle, as many as there is room for."""
    room = starts[-1] / 62
    ticks: list[float] = []
    labels: list[str] = []
    for (a, b), name, places in zip(pairwise(starts), groups.names, groups.places, strict=True):
        middle = (a + b - 1) / 2
        if not ticks or middle - ticks[-1] >= room:
            ticks.append(middle)
            labels.append(f"{name}, {len(places)}")
    return ticks, labels
