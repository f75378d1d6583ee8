"""All pairs as text, as rows and as a figure."""

from __future__ import annotations

from collections.abc import Iterator
from io import BytesIO
from itertools import pairwise

import numpy as np

from archipelago.diagnosis.picture import Picture, sits_in
from archipelago.errors import QuestionError
from archipelago.reachability.matrix import Matrix
from archipelago.views.table import Table, counted, table

MOST_COLUMNS = 40
"""More groups than this are not drawn as a text grid."""


def headline(matrix: Matrix) -> str:
    """The answer in one line."""
    text = f"{matrix.count:,} of {counted(matrix.pairs, 'pair')} reached"
    return text if matrix.count == matrix.pairs else f"{text}; {counted(matrix.pairs - matrix.count, 'pair')} cut off"


def causes(matrix: Matrix) -> Table:
    """What cuts pairs off, the costliest first, each with its mend."""
    rows = [
        (
            f"{one.pairs:,}",
            one.finding.slug,
            one.finding.at,
            one.finding.says,
            one.finding.mend,
            f"{one.source} to {one.target}",
        )
        for one in matrix.groups
    ]
    return table("what cuts them off", ("pairs", "cause", "at", "why", "mend", "such as"), rows, ("pairs",))


def groups(view: Picture, matrix: Matrix) -> list[tuple[str, list[int]]]:
    """The hosts' places by the VLAN that they stand in, in the order of the catalogue."""
    found: dict[int | None, list[int]] = {}
    for index, name in enumerate(matrix.hosts):
        node = view.knowledge.nodes[name]
        found.setdefault(sits_in(view, node, next(iter(node.nics.values()))), []).append(index)
    order = {vlan: place for place, vlan in enumerate(view.network.vlans.values())}
    ranked = sorted(found.items(), key=lambda item: (order.get(item[0] or 0, len(order)), item[0] or 0))
    return [(view.vlan_name(vlan) if vlan is not None else "no VLAN", places) for vlan, places in ranked]


def by_vlan(view: Picture, matrix: Matrix) -> Table | None:
    """From each VLAN (a row) to each (a column): all, none, or how many of the pairs; None where there are too many."""
    grouped = groups(view, matrix)
    if len(grouped) > MOST_COLUMNS:
        return None
    rows = []
    for number, (name, sources) in enumerate(grouped, 1):
        cells = []
        for _, targets in grouped:
            block = matrix.reached[np.ix_(sources, targets)]
            same = len(set(sources) & set(targets))
            pairs = len(sources) * len(targets) - same
            got = int(block.sum()) - sum(int(matrix.reached[i, i]) for i in sources if i in set(targets))
            cells.append("-" if not pairs else "all" if got == pairs else "none" if not got else f"{got}/{pairs}")
        rows.append((number, name, len(sources), *cells))
    columns = ("", "from", "hosts", *(f"to {number}" for number in range(1, len(grouped) + 1)))
    return table("by VLAN", columns, rows, (columns[0], *columns[2:]))


def by_host(view: Picture, matrix: Matrix) -> Iterator[str]:
    """A line for each host, a mark for each target: # reached, . not reached, the same order down and across."""
    grouped = groups(view, matrix)
    order = [index for _, places in grouped for index in places]
    width = max((len(name) for name in matrix.hosts), default=0)
    yield "from each host (down) to each (across, the same order): # reached, . not reached"
    for name, places in grouped:
        yield name
        for i in places:
            marks = "".join(" " if i == j else "#" if matrix.reached[i, j] else "." for j in order)
            yield f"  {matrix.hosts[i]:<{width}}  {marks}"


def csv_lines(matrix: Matrix) -> Iterator[str]:
    """The rows of `--csv`."""
    yield "source,destination,reached"
    for source, target, reached in matrix.rows():
        yield f"{source},{target},{'yes' if reached else 'no'}"


def figure(view: Picture, matrix: Matrix, name: str) -> bytes:
    """The matrix as the bytes of an SVG or PNG file: hosts grouped by VLAN, a cell for each pair.

    Raises:
        QuestionError: the name ends in neither .svg nor .png.
    """
    kind = name.rpartition(".")[2].lower()
    if kind not in ("svg", "png"):
        raise QuestionError(f"'{name}' ends in neither .svg nor .png; the figure is drawn as one of the two")
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.colors import ListedColormap
    from matplotlib.figure import Figure

    grouped = groups(view, matrix)
    order = [index for _, places in grouped for index in places]
    values = matrix.reached[np.ix_(order, order)].astype(int)
    np.fill_diagonal(values, 2)
    drawn = Figure(figsize=(12.8, 10.4))
    axes = drawn.add_axes((0.12, 0.03, 0.74, 0.78))
    colours = ListedColormap(["#c8553d", "#dcebe2", "#ffffff"])
    axes.imshow(values, cmap=colours, vmin=0, vmax=2, interpolation="nearest", aspect="auto")
    starts = np.cumsum([0, *(len(places) for _, places in grouped)])
    for start in starts:
        axes.axhline(start - 0.5, color="#33474f", lw=0.8)
        axes.axvline(start - 0.5, color="#33474f", lw=0.8)
    if len(order) <= 60:
        ticks, labels = list(range(len(order))), [matrix.hosts[index] for index in order]
    else:
        ticks = [int((a + b - 1) / 2) for a, b in pairwise(starts)]
        every = max(1, len(ticks) // 45)
        labels = [f"{name}, {len(places)}" if n % every == 0 else "" for n, (name, places) in enumerate(grouped)]
    size = 8.0 if len(ticks) <= 45 else 6.5
    axes.set_xticks(ticks, labels, rotation=90, fontsize=size)
    axes.set_yticks(ticks, labels, fontsize=size)
    axes.tick_params(length=0, top=False, bottom=False, labeltop=True, labelbottom=False)
    for (name_text, places), start in zip(grouped, starts, strict=False):
        if len(order) <= 60:
            axes.text(len(order) - 0.3, start + len(places) / 2 - 0.5, name_text, fontsize=8, va="center")
    for i, j in zip(*np.nonzero(values == 0), strict=True) if len(order) <= 40 else ():
        axes.text(j, i, "×", fontsize=9, color="white", ha="center", va="center")
    drawn.text(0.02, 0.975, headline(matrix), fontsize=14, weight="bold", color="#1f2d33", va="top")
    legend = "from the row's host to the column's host: pale: reached; dark, crossed where there is room: not reached"
    drawn.text(0.02, 0.945, legend, fontsize=9, color="#33474f", va="top")
    buffer = BytesIO()
    with matplotlib.rc_context({"svg.fonttype": "none", "svg.hashsalt": "archipelago"}):
        drawn.savefig(buffer, format=kind, dpi=100, metadata={"Date": None} if kind == "svg" else None)
    return buffer.getvalue()
