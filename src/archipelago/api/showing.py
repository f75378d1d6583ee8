"""What devices know, diagrams, other formats, a real kernel; results as plain values and tables."""

from __future__ import annotations

from collections.abc import Sequence
from os import PathLike, fspath
from typing import TYPE_CHECKING

from archipelago.api.asking import reach
from archipelago.api.reading import a_network

if TYPE_CHECKING:
    import pandas
    from matplotlib.axes import Axes

    from archipelago.addressing.carve import Carving
    from archipelago.exchange.rehearsal import Rehearsal
    from archipelago.model.network import Network
    from archipelago.reachability.kept import Kept
    from archipelago.reachability.matrix import Matrix
    from archipelago.views.look import View


def view(
    network: Network,
    devices: Sequence[str] = (),
    *,
    vlans: Sequence[str] = (),
    ports: Sequence[str] = (),
    hosts: Sequence[str] = (),
    gateways: bool = False,
    policy: bool = False,
    leases: bool = False,
    redundancy: bool = False,
    after: tuple[str, str] | None = None,
) -> View:
    """What devices know: interfaces, VLANs, trunks, routes; two of them side by side; how a host sends.

    Args:
        network: the network.
        devices: devices or hosts by name; by default all devices. Two are compared.
        vlans: only these VLANs, by name or id.
        ports: only these ports or interfaces.
        hosts: instead, how each of these hosts sends to every subnet.
        gateways: instead, all gateways and all static routes.
        policy: instead, what hosts of each VLAN may begin, and with whom.
        leases: instead, what hosts are leased, by whom, and who gets nothing and why.
        redundancy: instead, the spanning tree and its blocked ports, and who is active in shared gateways, and why.
        after: two ends; probe from one to the other first, then show the ARP and MAC tables too.

    Returns:
        The tables, which print as text; VLAN ids, tags and metrics in them are integers.

    Raises:
        QueryError: a device, host, VLAN or port does not exist, or there is no policy.

    Example:
        >>> print(archipelago.view(network, ["landing"]).headline)
        2 interfaces with addresses, 2 up
    """
    from archipelago.views.look import Wanted, look

    simulated = None
    if after is not None:
        from archipelago.api.asking import simulate

        simulated = simulate(network, *after)[1]
    wanted = Wanted(
        devices,
        vlans=vlans,
        ports=ports,
        hosts=hosts,
        gateways=gateways,
        policy=policy,
        leases=leases,
        redundancy=redundancy,
        simulated=simulated,
    )
    return look(a_network(network), wanted)


def leases(network: Network) -> dict[str, dict[str, str | None] | None]:
    """What servers lease to each host that asks (`address: dhcp`), once all have asked in their order (RFC 2131).

    Args:
        network: the network.

    Returns:
        For each such host its `address` with the prefix length, `gateway`, `server` (a device or host) and `relay`
        (`DEVICE/INTERFACE`, or None where the server is in its own domain); None for one that gets nothing.

    Raises:
        TypeError: this is no network, such as a path.

    Example:
        >>> archipelago.leases(archipelago.Network())
        {}
    """
    from archipelago.knowledge.index import index_network
    from archipelago.views.leases import values

    return values(index_network(a_network(network)))


def redundancy(network: Network) -> dict[str, object]:
    """What the spanning tree blocks (IEEE 802.1Q-2022, clause 13) and who is active in shared gateways (RFC 9568), in
    the steady state.

    Args:
        network: the network.

    Returns:
        `root`, of each device that takes part in the tree its root; `blocked`, ports and aggregates as `DEVICE/PORT`;
        `active`, for each virtual router in each broadcast domain with a member that is up its `vrid`, `family`,
        `members` and the `active` one (`DEVICE/INTERFACE`; None where all hear a better one that does not hear them).

    Raises:
        TypeError: this is no network, such as a path.

    Example:
        >>> archipelago.redundancy(archipelago.Network())
        {'root': {}, 'blocked': [], 'active': []}
    """
    from archipelago.knowledge.index import index_network
    from archipelago.views.redundancy import values

    return values(index_network(a_network(network)))


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


def export(network: Network, format: str = "linux") -> str:
    """A network in an open format.

    Args:
        network: the network.
        format: "linux": a shell script that builds it from namespaces of a Linux kernel; "csv" or "markdown": its
            addressing table.

    Returns:
        The text.

    Raises:
        QueryError: there is no such format.

    Example:
        >>> archipelago.export(network, "linux").splitlines()[0]
        '#!/bin/sh'
    """
    from archipelago.errors import QueryError

    asked = a_network(network)
    if format == "linux":
        from archipelago.exchange.linux import script

        return script(asked)
    from archipelago.views.addressing_table import WRITERS

    if format not in WRITERS:
        raise QueryError(f"there is no format '{format}'; there are: linux, {', '.join(WRITERS)}")
    return WRITERS[format](asked)


def zones(network: Network) -> dict[str, str]:
    """The names of a network as zone files (RFC 1035): the forward zone of its `domain`, and a reverse zone for each
    block that it holds addresses of.

    Args:
        network: a network with a domain.

    Returns:
        The text of each file by its name.

    Raises:
        QueryError: the network has no domain.

    Example:
        >>> archipelago.zones(network)
        Traceback (most recent call last):
        archipelago.errors.QueryError: the network has no 'domain'; write one, such as domain: ferry.example
    """
    from archipelago.exchange.zones import zone_files

    return zone_files(a_network(network))


def rehearse(
    network: Network,
    sources: Sequence[str] = (),
    targets: Sequence[str] = (),
    *,
    seconds: float = 300.0,
    probe: str = "icmp",
) -> Rehearsal:
    """Build the network in a real kernel, send real probes, and compare its answers with the simulation's.

    Args:
        network: the network.
        sources: hosts that send; by default all.
        targets: hosts that are asked for; by default all.
        seconds: the longest that the kernel may take.
        probe: what is sent: `icmp` (an echo request), or the first packet to a port: `tcp/443`, `udp/53`.

    Returns:
        Both answers for every pair.

    Raises:
        QueryError: a host does not exist, the network would storm, or the time is not a number above 0.
        KernelError: there is no kernel to use, or it did not finish in time.

    Example:
        >>> rehearsal = archipelago.rehearse(network)  # doctest: +SKIP
        >>> print(rehearsal)  # doctest: +SKIP
    """
    from archipelago.errors import QueryError

    if not 0 < seconds < float("inf"):
        raise QueryError(f"{seconds} is not a time; seconds above 0 are expected")
    from archipelago.exchange.rehearsal import rehearse as run
    from archipelago.model.filters import parse_probe

    return run(a_network(network), list(sources), list(targets), seconds, parse_probe(probe))


def to_json(result: object) -> object:
    """Any result as plain lists, dictionaries, texts and numbers, with stable keys.

    Args:
        result: what another call returned.

    Returns:
        The same in what JSON knows.

    Example:
        >>> archipelago.to_json(archipelago.reach(network, "winch", "gull"))["reached"]
        True
    """
    from archipelago.views.plain import plain

    values: object = plain(result)
    return values


def to_table(result: object, by: str = "class") -> pandas.DataFrame:
    """A result that is a table (a carving, findings, decisions, steps, a view, a matrix) as a pandas table.

    Args:
        result: what another call returned.
        by: for a matrix: "class" (hosts that fare alike, under the name of the first), "host", or "pair" (columns
            source, destination, reached).

    Returns:
        The table.

    Raises:
        QueryError: a matrix has too many hosts to be laid out host by host.

    Example:
        >>> archipelago.to_table(archipelago.matrix(network), by="pair")
          source destination  reached
        0  winch        gull     True
        1   gull       winch     True
    """
    from archipelago.views.plain import frame

    return frame(result, by)
