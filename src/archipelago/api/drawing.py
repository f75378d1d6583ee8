"""Networks and answers as pictures."""

from __future__ import annotations

from os import PathLike, fspath
from typing import TYPE_CHECKING

from archipelago.api.arguments import checked
from archipelago.api.asking import reach

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from archipelago.answer import Answer
    from archipelago.model.network import Network
    from archipelago.views.shapes import Picture


@checked
def draw(
    what: Network | Answer,
    path: str | PathLike[str] | None = None,
    *,
    way: tuple[str, str] | None = None,
    axes: Axes | None = None,
) -> None:
    """Draw a network (its diagram, with what `audit` finds marked where it stands) or an answer: a matrix, a policy, a
    carving, outages, a break, a comparison, traffic, designs that were weighed.

    Args:
        what: the network, or the answer.
        path: an SVG or PNG file to write, by the ending of its name.
        way: of a network two ends, as `reach` takes them, to draw the way of a probe and its answer between them.
        axes: Matplotlib axes to draw into, instead or too.

    Raises:
        QueryError: the name ends in neither .svg nor .png, there is neither a path nor axes, there is no such end, or
            it is an answer that is not drawn.
        DocumentError: the place cannot be written to.

    Example:
        >>> from matplotlib.figure import Figure
        >>> archipelago.draw(network, axes=Figure().subplots())
    """
    from archipelago.answer import Answer
    from archipelago.errors import QueryError
    from archipelago.views.painting import ending, painted

    if path is None and axes is None:
        raise QueryError("there is nowhere to draw: give a path that ends in .svg or .png, or axes")
    kind = ending(fspath(path)) if path is not None else ""
    if isinstance(what, Answer):
        from archipelago.answer import face_of

        picture = face_of(what).drawn(what)
    else:
        picture = _diagram(what, way)
    if axes is not None:
        from archipelago.views.plot import paint

        paint(axes, picture)
    if path is not None:
        from archipelago.files.disk import write_whole

        write_whole(path, painted(picture, kind))


def _diagram(network: Network, way: tuple[str, str] | None) -> Picture:
    """The diagram of a network, with what is wrong in it."""
    from archipelago.audit.registry import run
    from archipelago.knowledge.index import index_network
    from archipelago.views.draw import diagram

    answer = reach(network, *way) if way is not None else None
    index = index_network(network)
    return diagram(index, [finding for finding in run(index) if not finding.is_note], answer)
