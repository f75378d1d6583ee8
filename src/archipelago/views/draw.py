"""A diagram as the bytes of an SVG or PNG file."""

from __future__ import annotations

from io import BytesIO
from typing import TYPE_CHECKING, Any

from archipelago.errors import QueryError, printable
from archipelago.knowledge.index import index_network
from archipelago.model.network import Network
from archipelago.views.diagram import LINE, SPINE, Box, Line, Sheet, lay_out

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_PALETTE = (
    "#cfe6dc",
    "#f6dcb4",
    "#d6d9f0",
    "#f2cfd0",
    "#dbe8b6",
    "#c9e3ee",
    "#ead3ea",
    "#e6ddcf",
    "#bfdcd0",
    "#f0e3a8",
)
_DEVICES = {"router": "#1f4e5f", "l3switch": "#2f6f64", "switch": "#55626b"}


def picture_of(network: Network, name: str) -> bytes:
    """Draw a network; the ending of `name` (.svg or .png) says as what.

    Raises:
        QueryError: another ending.
    """
    kind = name.rpartition(".")[2].lower()
    if kind not in ("svg", "png"):
        raise QueryError(f"'{name}' ends in neither .svg nor .png; a diagram is drawn as one of the two")
    return render(lay_out(index_network(network)), kind)


def draw_into(network: Network, axes: Axes) -> None:
    """Draw a network into given Matplotlib axes."""
    _fill(axes, lay_out(index_network(network)))


def render(sheet: Sheet, kind: str) -> bytes:
    """A laid-out sheet as the bytes of a file. One point of the layout is one point of the page; what is set up for
    Matplotlib elsewhere plays no part."""
    import matplotlib

    with matplotlib.rc_context():
        matplotlib.rcdefaults()
        settings: Any = {"svg.fonttype": "none", "svg.hashsalt": "archipelago", "font.family": "DejaVu Sans"}
        matplotlib.rcParams.update(settings)
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure

        figure = Figure(figsize=(sheet.width / 72, sheet.height / 72))
        FigureCanvasAgg(figure)
        _fill(figure.add_axes((0.0, 0.0, 1.0, 1.0)), sheet)
        buffer = BytesIO()
        resolution = min(144.0, 72 * 12000 / max(sheet.width, sheet.height))
        metadata = {"Date": None} if kind == "svg" else None
        figure.savefig(buffer, format=kind, dpi=resolution, facecolor="white", metadata=metadata)
        return buffer.getvalue()


def _fill(axes: Any, sheet: Sheet) -> None:
    axes.set_xlim(0, sheet.width)
    axes.set_ylim(sheet.height, 0)
    axes.axis("off")
    axes.text(16, 24, _quoted(sheet.title), fontsize=14, weight="bold", color="#1f2d33")
    axes.text(16, 40, _quoted(sheet.subtitle), fontsize=9, color="#55626b")
    numbers = {vlan: index for index, (vlan, _) in enumerate(sheet.vlans)}
    for line in sheet.lines:
        _line(axes, line)
    for box in sheet.boxes:
        _box(axes, box, numbers)
    for index, note in enumerate(sheet.notes):
        axes.text(16, sheet.height - LINE * (len(sheet.notes) - index), _quoted(note), fontsize=8, color="#444444")


def _quoted(text: str) -> str:
    """Text that Matplotlib shows as it is: a pair of dollar signs would start a formula; what XML does not allow is
    shown as an escape."""
    return printable(text).replace("$", r"\$")


def _line(axes: Any, line: Line) -> None:
    a, b = line.upper, line.lower
    colour = "#6b7a80" if line.live else "#b03a2e"
    x1, x2 = a.x + a.width / 2, b.x + b.width / 2
    if line.mark:
        # Above both boxes and spread out, so that no two dashed lines lie on each other.
        spread = (line.mark % 5 - 2) * 11
        bend = min(a.y, b.y) - 8 - (line.mark - 1) % 4 * 6
        xs = [x1 + spread, x1 + spread, x2 + spread, x2 + spread]
        axes.plot(xs, [a.y, bend, bend, b.y], color=colour, lw=1.1, ls=(0, (4, 3)), zorder=1)
        axes.text(
            (xs[0] + xs[2]) / 2,
            bend,
            str(line.mark),
            fontsize=7.5,
            ha="center",
            va="center",
            color=colour,
            zorder=3,
            bbox={"facecolor": "white", "edgecolor": colour, "pad": 1.2, "lw": 0.6},
        )
        return
    y1, y2 = a.y + a.height, b.y
    bus = y1 + 14
    style = "-" if line.live else (0, (1, 2))
    if line.stack:
        spine, middle = b.x - SPINE / 2, b.y + 14
        axes.plot([x1, x1, spine, spine, b.x], [y1, bus, bus, middle, middle], color=colour, lw=1.2, zorder=1)
        return
    axes.plot([x1, x1, x2, x2], [y1, bus, bus, y2], color=colour, lw=1.2, ls=style, zorder=1)
    if line.label:
        axes.text(
            x2,
            y2 - 4,
            _quoted(line.label),
            fontsize=7.5,
            ha="center",
            va="bottom",
            color=colour,
            zorder=3,
            bbox={"facecolor": "white", "edgecolor": "none", "pad": 1.0},
        )


def _box(axes: Any, box: Box, numbers: dict[int, int]) -> None:
    from matplotlib.patches import FancyBboxPatch, Rectangle

    if box.kind == "hosts":
        fill = _PALETTE[numbers[box.vlan] % len(_PALETTE)] if box.vlan in numbers else "#eeeeee"
        axes.add_patch(
            Rectangle((box.x, box.y), box.width, box.height, facecolor=fill, edgecolor="#8a979c", lw=0.8, zorder=2)
        )
        heading, ink = "#1f2d33", "#26343a"
    else:
        rounding = 6.0 if box.kind == "router" else 1.5
        style = f"round,pad=0,rounding_size={rounding}"
        axes.add_patch(
            FancyBboxPatch(
                (box.x, box.y),
                box.width,
                box.height,
                boxstyle=style,
                facecolor="white",
                edgecolor=_DEVICES[box.kind],
                lw=1.6 if box.kind == "switch" else 2.4,
                zorder=2,
            )
        )
        heading, ink = _DEVICES[box.kind], "#26343a"
    axes.text(box.x + 8, box.y + 15, _quoted(box.heading), fontsize=8.5, weight="bold", color=heading, zorder=4)
    for index, text in enumerate(box.texts):
        axes.text(
            box.x + 8,
            box.y + 15 + LINE * (index + 1),
            _quoted(text),
            fontsize=8,
            color=ink,
            zorder=4,
            family="DejaVu Sans Mono" if box.kind == "hosts" and index else None,
        )
