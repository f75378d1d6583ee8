"""A picture painted by Matplotlib: as PNG, or into given axes."""

from __future__ import annotations

from io import BytesIO
from typing import TYPE_CHECKING, Any

from archipelago.errors import printable
from archipelago.views.palette import INK, PAPER
from archipelago.views.shapes import Line, Picture, Raster, Text

if TYPE_CHECKING:
    from matplotlib.axes import Axes

DOTS = 100
"""Pixels of a PNG for each inch of the page; one for each of the picture's."""
MOST = 12_000
"""A PNG has at most so many pixels each way; a larger picture is painted smaller."""
POINTS = 72 / DOTS
"""Points for each pixel."""
_HATCHES = {"": None, "/": "////", "\\": "\\\\\\\\", "-": "---", "|": "|||", "x": "xxx", ".": "..."}


def png(picture: Picture) -> bytes:
    """The picture as the bytes of a PNG file; what is set up for Matplotlib elsewhere plays no part."""
    import matplotlib

    with matplotlib.rc_context():
        matplotlib.rcdefaults()
        settings: Any = {"font.family": "DejaVu Sans", "hatch.linewidth": 0.5, "hatch.color": INK}
        matplotlib.rcParams.update(settings)
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure

        figure = Figure(figsize=(picture.width / DOTS, picture.height / DOTS))
        FigureCanvasAgg(figure)
        paint(figure.add_axes((0.0, 0.0, 1.0, 1.0)), picture)
        buffer = BytesIO()
        resolution = min(float(DOTS), DOTS * MOST / max(picture.width, picture.height))
        figure.savefig(buffer, format="png", dpi=resolution, facecolor=PAPER)
        return buffer.getvalue()


def paint(axes: Axes, picture: Picture) -> None:
    """Paint a picture into axes, which then are as wide and high as it."""
    from matplotlib.patches import FancyBboxPatch
    from matplotlib.patches import Rectangle as Patch

    for order, shape in enumerate(picture.shapes):
        if isinstance(shape, Line):
            xs, ys = zip(*shape.points, strict=True)
            style: Any = (0, (5, 4)) if shape.broken else "-"
            axes.plot(xs, ys, color=shape.colour, lw=shape.thick * POINTS, ls=style, zorder=order)
        elif isinstance(shape, Text):
            axes.text(shape.x, shape.y, _quoted(shape.text), zorder=order, **_settings(shape))
        elif isinstance(shape, Raster):
            _paint_cells(axes, shape, order)
        else:
            look: Any = {
                "facecolor": shape.pattern.fill,
                "edgecolor": shape.edge or "none",
                "lw": shape.thick * POINTS,
                "zorder": order,
            }
            box = (shape.x, shape.y), shape.width, shape.height
            if shape.rounded:
                axes.add_patch(FancyBboxPatch(*box, boxstyle=f"round,pad=0,rounding_size={shape.rounded}", **look))
            else:
                axes.add_patch(Patch(*box, hatch=_HATCHES[shape.pattern.hatch], **look))
    axes.set_xlim(0, picture.width)
    axes.set_ylim(picture.height, 0)
    axes.axis("off")


def _paint_cells(axes: Axes, raster: Raster, order: int) -> None:
    import numpy as np
    from matplotlib.colors import ListedColormap

    cells = np.array([np.frombuffer(row, dtype=np.uint8) for row in raster.rows])
    extent = raster.x, raster.x + raster.width, raster.y + raster.height, raster.y
    axes.imshow(
        cells,
        cmap=ListedColormap(raster.colours),
        vmin=0,
        vmax=len(raster.colours) - 1,
        interpolation="nearest",
        aspect="auto",
        extent=extent,
        zorder=order,
    )


def _settings(shape: Text) -> dict[str, Any]:
    settings: dict[str, Any] = {
        "fontsize": shape.size * POINTS,
        "color": shape.colour,
        "weight": "bold" if shape.bold else "normal",
        "ha": {"start": "left", "middle": "center", "end": "right"}[shape.anchor],
        "va": "baseline",
    }
    if shape.turned:  # Matplotlib takes what a turned text reaches from for its place, not its base line
        settings |= {"rotation": 90, "rotation_mode": "anchor"}
    if shape.ground:
        settings["bbox"] = {"facecolor": PAPER, "edgecolor": "none", "pad": 1.0}
    return settings


def _quoted(text: str) -> str:
    """Text that Matplotlib shows as it is: a pair of dollar signs would start a formula."""
    return printable(text).replace("$", r"\$")
