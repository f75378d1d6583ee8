"""All pairs as a picture: a cell for each pair of hosts, or of VLANs where there are very many."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from archipelago.errors import QueryError
from archipelago.reachability.matrix import Matrix
from archipelago.views import palette
from archipelago.views.matrix import Grouped, causes, grouped
from archipelago.views.picture_parts import MARGIN, WIDTH, Grid, Label, fitted, heading, legend
from archipelago.views.shapes import Line, Pattern, Picture, Raster, Shape, Text, shortened, widest

MOST_DRAWN = 3_000
"""With more hosts than this there is a cell for each pair of VLANs."""
MOST_NAMED = 60
"""So many hosts are named each; of more, their VLANs."""
MOST_LINES = 120
"""So many VLANs have a line between them."""
MOST_CAUSES = 3
CUT_OFF, PARTLY, ITSELF, REACHED, APART = range(5)
FILLS = (palette.CUT_OFF, palette.PARTLY, palette.PAPER, palette.REACHED, palette.KEPT_APART)


def matrix_picture(matrix: Matrix) -> Picture:
    """The answer and the first causes, and below them the cells, hosts grouped by VLAN.

    Raises:
        QueryError: the matrix is not of a network that was asked by `archipelago.matrix`.
    """
    if matrix.beside is None:
        raise QueryError("this matrix does not say which VLANs its hosts are in; ask archipelago.matrix for it")
    groups, apart = grouped(matrix.beside.knowledge, matrix), matrix.beside.apart
    coarse = len(matrix.hosts) > MOST_DRAWN
    cells, sizes = _by_vlan(groups) if coarse else _by_host(matrix, groups)
    starts = np.cumsum([0, *sizes])
    picture = Picture("all pairs", matrix.headline)
    reading = f"from the row's {'VLAN' if coarse else 'host'} to the column's"
    picture.shapes += heading(matrix.headline, reading)
    entries = [(REACHED, "reached"), (CUT_OFF, "cut off, crossed where there is room")]
    entries += [(APART, f"kept apart by {apart.by}, dashed")] if apart is not None and apart.pairs else []
    entries += [(PARTLY, "some of its pairs cut off")] if coarse else []
    picture.shapes += legend([(Pattern(FILLS[value]), text) for value, text in entries], MARGIN, 66)
    y = 84.0
    for row in causes(matrix.groups).rows[:MOST_CAUSES]:
        said = f"{row[0]} pairs: {row[3]} ({row[2]}); {row[4]}"
        picture.shapes.append(Text(MARGIN, y, shortened(said, WIDTH - 2 * MARGIN)))
        y += 16
    if len(cells) <= MOST_NAMED and not coarse:
        order = [matrix.hosts[index] for place in groups.places for index in place.tolist()]
        labels = [Label(at + 0.5, name) for at, name in enumerate(order)]
        beside = widest(groups.names) + 8
    else:
        labels, beside = _labels(groups, starts), 0.0
    grid = fitted(picture, y, len(cells), labels, least=0.0, most=(240.0, 140.0), beside=beside)
    picture.shapes += grid.labels(labels)
    picture.shapes += _cells(grid, cells)
    picture.shapes += _lines(grid, starts) if len(starts) <= MOST_LINES else ()
    for start, end, name in zip(starts.tolist(), starts[1:].tolist(), groups.names, strict=False) if beside else ():
        picture.shapes.append(Text(grid.x(grid.count) + 6, grid.y((start + end) / 2) + 4, name))
    return picture


def _by_host(matrix: Matrix, groups: Grouped) -> tuple[NDArray[np.int64], list[int]]:
    """A cell for each pair of hosts, and how many hosts each VLAN has."""
    order = np.concatenate(groups.places) if groups.places else np.empty(0, dtype=np.int64)
    cells = np.where(matrix.block(order, order), REACHED, CUT_OFF)
    apart = matrix.beside.apart if matrix.beside is not None else None
    if apart is not None and apart.pairs:
        kind = matrix.kind[order]
        cells[(cells == CUT_OFF) & apart.kinds[np.ix_(kind, kind)]] = APART
    np.fill_diagonal(cells, ITSELF)
    return cells, [len(place) for place in groups.places]


def _by_vlan(groups: Grouped) -> tuple[NDArray[np.int64], list[int]]:
    """A cell for each pair of VLANs, each of the size of one."""
    pairs = np.array([groups.pairs(i) for i in range(len(groups.names))])
    whole = np.where(groups.missing == 0, REACHED, APART)
    cells = np.where(groups.cut == 0, whole, np.where(groups.cut == pairs, CUT_OFF, PARTLY))
    cells[pairs == 0] = ITSELF
    return cells, [1] * len(groups.names)


def _cells(grid: Grid, cells: NDArray[np.int64]) -> Iterator[Shape]:
    """The cells: one by one where there is room for a cross in each."""
    if grid.count > MOST_NAMED:
        rows = tuple(row.astype(np.uint8).tobytes() for row in cells)
        yield Raster(grid.left, grid.top, grid.wide * grid.count, grid.high * grid.count, FILLS, rows)
        return
    for i, row in enumerate(cells.tolist()):
        for j, value in enumerate(row):
            if value == ITSELF:
                yield grid.blank(i, j)
                continue
            yield grid.cell(i, j, Pattern(FILLS[value]), palette.HAIRLINE)
            if value == CUT_OFF:
                x, y = grid.x(j + 0.5), grid.y(i + 0.5) + 4
                yield Text(x, y, "\N{MULTIPLICATION SIGN}", 12, palette.PAPER, anchor="middle")
            elif value == APART:
                yield Text(grid.x(j + 0.5), grid.y(i + 0.5) + 4, "\N{EN DASH}", 12, palette.FAINT, anchor="middle")


def _lines(grid: Grid, starts: NDArray[np.int64]) -> Iterator[Line]:
    """A line between one VLAN and the next."""
    thick = 1.0 if len(starts) <= MOST_NAMED else 0.4
    for start in starts.tolist():
        yield Line(((grid.x(0), grid.y(start)), (grid.x(grid.count), grid.y(start))), palette.FRAME, thick)
        yield Line(((grid.x(start), grid.y(0)), (grid.x(start), grid.y(grid.count))), palette.FRAME, thick)


def _labels(groups: Grouped, starts: NDArray[np.int64]) -> list[Label]:
    """A label for each VLAN, at its middle, as many as there is room for."""
    room = starts[-1] / MOST_NAMED
    labels: list[Label] = []
    for (start, end), name, size in zip(pairwise(starts.tolist()), groups.names, groups.sizes.tolist(), strict=True):
        middle = (start + end) / 2
        if not labels or middle - labels[-1].at >= room:
            labels.append(Label(middle, f"{name}, {size:,}"))
    return labels
