"""All pairs as a figure: a cell for each pair of hosts, or of VLANs where there are very many."""

from __future__ import annotations

from io import BytesIO
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from archipelago.errors import QueryError
from archipelago.reachability.matrix import Matrix
from archipelago.views import palette
from archipelago.views.matrix import Grouped, causes, grouped

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MOST_DRAWN = 3_000
"""With more hosts than this the figure has a cell for each pair of VLANs."""


def figure(matrix: Matrix, kind: str) -> bytes:
    """The matrix as the bytes of an SVG or PNG file, with the answer and the first causes above it."""
    import matplotlib

    with matplotlib.rc_context():
        matplotlib.rcdefaults()
        matplotlib.rcParams.update({"svg.fonttype": "none", "svg.hashsalt": "archipelago"})
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure

        drawn = Figure(figsize=(12.8, 8.0))
        FigureCanvasAgg(drawn)
        draw_cells(drawn.add_axes((0.13, 0.03, 0.72, 0.70)), matrix)
        _captions(drawn, matrix, len(matrix.hosts) > MOST_DRAWN)
        buffer = BytesIO()
        drawn.savefig(buffer, format=kind, dpi=100, metadata={"Date": None} if kind == "svg" else None)
        return buffer.getvalue()


def draw_cells(axes: Axes, matrix: Matrix) -> None:
    """The cells alone, in given axes: hosts grouped by VLAN.

    Raises:
        QueryError: the matrix is not of a network that was asked by `archipelago.matrix`.
    """
    from matplotlib.colors import ListedColormap

    if matrix.beside is None:
        raise QueryError("this matrix does not say which VLANs its hosts are in; ask archipelago.matrix for it")
    groups = grouped(matrix.beside.knowledge, matrix)
    coarse = len(matrix.hosts) > MOST_DRAWN
    order = np.concatenate(groups.places) if groups.places else np.empty(0, dtype=np.int64)
    if coarse:
        pairs = np.array([groups.pairs(i) for i in range(len(groups.names))])
        values = np.where(groups.missing == 0, 3, np.where(groups.missing == pairs, 0, 1))
        values[pairs == 0] = 2
        sizes = [1] * len(groups.names)
    else:
        values = matrix.block(order, order).astype(int) * 3
        np.fill_diagonal(values, 2)
        sizes = [len(place) for place in groups.places]
    starts = np.cumsum([0, *sizes])
    cells = len(values)
    colours = ListedColormap([palette.CUT_OFF, palette.PARTLY, palette.PAPER, palette.REACHED])
    axes.imshow(values, cmap=colours, vmin=0, vmax=3, interpolation="nearest", aspect="auto")
    for start in starts if len(starts) <= 120 else ():
        axes.axhline(start - 0.5, color=palette.FRAME, lw=0.8 if len(starts) <= 60 else 0.3)
        axes.axvline(start - 0.5, color=palette.FRAME, lw=0.8 if len(starts) <= 60 else 0.3)
    single = cells <= 60 and not coarse
    if single:
        ticks, labels = [float(at) for at in range(cells)], [matrix.hosts[index] for index in order]
    else:
        ticks, labels = _ticks(groups, starts)
    size = 8.0 if len(ticks) <= 45 else 6.5
    axes.set_xticks(ticks, labels, rotation=90, fontsize=size)
    axes.set_yticks(ticks, labels, fontsize=size)
    axes.tick_params(length=0, top=False, bottom=False, labeltop=True, labelbottom=False)
    for name, count, start in zip(groups.names, sizes, starts, strict=False) if single else ():
        axes.text(cells - 0.3, start + count / 2 - 0.5, name, fontsize=8, va="center")
    for i, j in zip(*np.nonzero(values == 0), strict=True) if cells <= 40 else ():
        axes.text(j, i, "×", fontsize=9, color="white", ha="center", va="center")


def _captions(drawn: Figure, matrix: Matrix, coarse: bool) -> None:
    """The answer above the figure, how to read it, and the first causes."""
    drawn.text(0.02, 0.975, matrix.headline, fontsize=14, weight="bold", color=palette.INK, va="top")
    who = "VLAN" if coarse else "host"
    legend = (
        f"from the row's {who} to the column's {who}: pale: reached; dark, crossed where there is room: not reached"
    )
    if coarse:
        legend += "; between: in part"
    drawn.text(0.02, 0.945, legend, fontsize=9, color=palette.FRAME, va="top")
    for number, row in enumerate(causes(matrix.groups).rows[:3]):
        text = f"{row[0]} pairs: {row[3]} ({row[2]}); {row[4]}"
        drawn.text(0.02, 0.92 - 0.022 * number, _cropped(text), fontsize=9, color=palette.INK, va="top")


def _cropped(text: str) -> str:
    return text if len(text) <= 190 else f"{text[:187]}..."


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
