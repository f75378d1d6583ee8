"""Diagrams, matrices, policies and address space as pictures."""

from __future__ import annotations

from os import PathLike, fspath
from typing import TYPE_CHECKING

from archipelago.api.asking import reach
from archipelago.api.reading import a_network

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from archipelago.addressing.carve import Carving
    from archipelago.changes.comparison import Comparison
    from archipelago.failures.result import Outages
    from archipelago.load.result import Load
    from archipelago.model.network import Network
    from archipelago.reachability.kept import Kept
    from archipelago.reachability.matrix import Matrix
    from archipelago.simulation.breaking import Broken
    from archipelago.weighing.result import Weighing


def draw(
    network: Network,
    path: str | PathLike[str] | None = None,
    *,
    way: tuple[str, str] | None = None,
    axes: Axes | None = None,
) -> None:
    """Draw the diagram of a network, with what `audit` finds marked where it stands.

    Args:
        network: the network.
        path: an SVG or PNG file to write, by the ending of its name.
        way: two ends, as `reach` takes them, to draw the way of a probe and its answer between them.
        axes: Matplotlib axes to draw into instead.

    Raises:
        QueryError: the name ends in neither .svg nor .png, there is neither a path nor axes, or there is no such end.
        DocumentError: the place cannot be written to.

    Example:
        >>> from matplotlib.figure import Figure
        >>> archipelago.draw(network, axes=Figure().subplots())
    """
    from archipelago.audit.registry import run
    from archipelago.errors import QueryError
    from archipelago.knowledge.index import index_network
    from archipelago.views.draw import draw_into, ending, picture_of

    if path is None and axes is None:
        raise QueryError("there is nowhere to draw: give a path that ends in .svg or .png, or axes")
    if path is not None:
        ending(fspath(path))
    answer = reach(network, *way) if way is not None else None
    index = index_network(a_network(network))
    wrong = [finding for finding in run(index) if finding.severity != "note"]
    if axes is not None:
        draw_into(index, axes, wrong, answer)
    if path is not None:
        from archipelago.files.disk import write_whole

        write_whole(path, picture_of(index, fspath(path), wrong, answer))


def draw_break(broken: Broken, path: str | PathLike[str]) -> None:
    """Draw one failure over time: what happened on a clock, over the probes that were lost.

    Args:
        broken: what `break_part` gave.
        path: an SVG or PNG file to write, by the ending of its name.

    Raises:
        QueryError: the name ends in neither .svg nor .png.
        DocumentError: the place cannot be written to.

    Example:
        >>> archipelago.draw_break(archipelago.break_part(network, "slip", "winch", "gull"), "break.gif")
        Traceback (most recent call last):
        archipelago.errors.QueryError: 'break.gif' ends in neither .svg nor .png; a picture is drawn as one of the two
    """
    from archipelago.files.disk import write_whole
    from archipelago.views.breaking_picture import breaking_picture
    from archipelago.views.draw import ending, painted

    kind = ending(fspath(path))
    write_whole(path, painted(breaking_picture(broken), kind))


def draw_outages(network: Network, outages: Outages, path: str | PathLike[str]) -> None:
    """Draw the diagram of a network, each part shaded by what hangs on it, and what its failure does in words.

    Args:
        network: the network.
        outages: what every failure of one part does.
        path: an SVG or PNG file to write, by the ending of its name.

    Raises:
        QueryError: the name ends in neither .svg nor .png.
        DocumentError: the place cannot be written to.

    Example:
        >>> archipelago.draw_outages(network, archipelago.outages(network), "hanging.gif")
        Traceback (most recent call last):
        archipelago.errors.QueryError: 'hanging.gif' ends in neither .svg nor .png; a picture is drawn as one of the two
    """
    from archipelago.files.disk import write_whole
    from archipelago.knowledge.index import index_network
    from archipelago.views.draw import picture_of
    from archipelago.views.hanging import shade

    index = index_network(a_network(network))
    write_whole(path, picture_of(index, fspath(path), tell=lambda content: shade(content, outages)))


def draw_comparison(comparison: Comparison, path: str | PathLike[str]) -> None:
    """Draw two states of a network in one diagram, with words for what is new, gone and changed.

    Args:
        comparison: what `compare` gave.
        path: an SVG or PNG file to write, by the ending of its name.

    Raises:
        QueryError: the name ends in neither .svg nor .png.
        DocumentError: the place cannot be written to.

    Example:
        >>> archipelago.draw_comparison(archipelago.compare(network, network), "both.gif")
        Traceback (most recent call last):
        archipelago.errors.QueryError: 'both.gif' ends in neither .svg nor .png; a picture is drawn as one of the two
    """
    from archipelago.files.disk import write_whole
    from archipelago.knowledge.index import index_network
    from archipelago.views.both_states import mark
    from archipelago.views.draw import picture_of

    index = index_network(comparison.new)
    write_whole(path, picture_of(index, fspath(path), tell=lambda content: mark(content, comparison)))


def draw_traffic(network: Network, load: Load, path: str | PathLike[str]) -> None:
    """Draw the diagram of a network, each cable as broad as it is full, with what it carries in numbers.

    Args:
        network: the network.
        load: what `traffic` gave.
        path: an SVG or PNG file to write, by the ending of its name.

    Raises:
        QueryError: the name ends in neither .svg nor .png.
        DocumentError: the place cannot be written to.

    Example:
        >>> archipelago.draw_traffic(network, archipelago.traffic(network), "load.gif")
        Traceback (most recent call last):
        archipelago.errors.QueryError: 'load.gif' ends in neither .svg nor .png; a picture is drawn as one of the two
    """
    from archipelago.files.disk import write_whole
    from archipelago.knowledge.index import index_network
    from archipelago.views.draw import picture_of
    from archipelago.views.loaded import load_on

    index = index_network(a_network(network))
    write_whole(path, picture_of(index, fspath(path), tell=lambda content: load_on(content, load)))


def draw_space(carving: Carving, path: str | PathLike[str]) -> None:
    """Draw the address space to scale: what each subnet has in use, its headroom, what is reserved, what is free.

    Args:
        carving: what `carve` answered.
        path: an SVG or PNG file to write, by the ending of its name.

    Raises:
        QueryError: the name ends in neither .svg nor .png.
        DocumentError: the place cannot be written to.

    Example:
        >>> archipelago.draw_space(archipelago.carve(["10.44.0.0/24"], {"crew": 20}), "space.gif")
        Traceback (most recent call last):
        archipelago.errors.QueryError: 'space.gif' ends in neither .svg nor .png; a picture is drawn as one of the two
    """
    from archipelago.files.disk import write_whole
    from archipelago.views.draw import ending, painted
    from archipelago.views.space import space_picture

    write_whole(path, painted(space_picture(carving), ending(fspath(path))))


def draw_matrix(
    network: Network, matrix: Matrix, path: str | PathLike[str] | None = None, *, axes: Axes | None = None
) -> None:
    """Draw a matrix: hosts grouped by VLAN, a cell for each pair; of very many hosts, a cell for each pair of VLANs.

    Args:
        network: the network that the matrix is of.
        matrix: all its pairs.
        path: an SVG or PNG file to write, by the ending of its name.
        axes: Matplotlib axes to draw into instead.

    Raises:
        QueryError: the name ends in neither .svg nor .png, or there is neither a path nor axes.
        DocumentError: the place cannot be written to.

    Example:
        >>> from matplotlib.figure import Figure
        >>> archipelago.draw_matrix(network, archipelago.matrix(network), axes=Figure().subplots())
    """
    from archipelago.errors import QueryError
    from archipelago.knowledge.known import know
    from archipelago.knowledge.outside import widened
    from archipelago.views.figure import draw_cells, figure

    knowledge = widened(know(a_network(network)))
    if axes is not None:
        draw_cells(axes, knowledge, matrix)
    if path is not None:
        from archipelago.files.disk import write_whole

        write_whole(path, figure(knowledge, matrix, fspath(path)))
    if path is None and axes is None:
        raise QueryError("there is nowhere to draw: give a path that ends in .svg or .png, or axes")


def draw_policy(kept: Kept, path: str | PathLike[str]) -> None:
    """Draw whether a policy is kept: a cell for each VLAN, and the outside, with each other; what may be begun, what is
    wrongly open and wrongly closed, in words and patterns.

    Args:
        kept: what `check_policy` gave.
        path: an SVG or PNG file to write, by the ending of its name.

    Raises:
        QueryError: the name ends in neither .svg nor .png.
        DocumentError: the place cannot be written to.

    Example:
        >>> archipelago.draw_policy(None, "policy.gif")
        Traceback (most recent call last):
        archipelago.errors.QueryError: 'policy.gif' ends in neither .svg nor .png; a picture is drawn as one of the two
    """
    from archipelago.files.disk import write_whole
    from archipelago.views.draw import ending, painted
    from archipelago.views.policy_picture import policy_picture

    kind = ending(fspath(path))
    write_whole(path, painted(policy_picture(kept), kind))


def draw_weighing(weighing: Weighing, path: str | PathLike[str]) -> None:
    """Draw designs side by side: a bar and a number for each thing that they are weighed by.

    Args:
        weighing: what `weigh` gave.
        path: an SVG or PNG file to write, by the ending of its name.

    Raises:
        QueryError: the name ends in neither .svg nor .png.
        DocumentError: the place cannot be written to.

    Example:
        >>> archipelago.draw_weighing(archipelago.weigh(brief), "bars.gif")
        Traceback (most recent call last):
        archipelago.errors.QueryError: 'bars.gif' ends in neither .svg nor .png; a picture is drawn as one of the two
    """
    from archipelago.files.disk import write_whole
    from archipelago.views.draw import ending, painted
    from archipelago.views.weighing_picture import weighing_picture

    kind = ending(fspath(path))
    write_whole(path, painted(weighing_picture(weighing), kind))
