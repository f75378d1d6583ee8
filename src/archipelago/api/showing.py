"""What devices know, diagrams, other formats, a real kernel; results as plain values and tables."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from archipelago.api.arguments import checked

if TYPE_CHECKING:
    import pandas

    from archipelago.exchange.rehearsal import Rehearsal
    from archipelago.model.network import Network
    from archipelago.views.leases import Leases
    from archipelago.views.redundancy import Redundancy
    from archipelago.views.view import View


@checked
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
    return look(network, wanted)


@checked
def leases(network: Network) -> Leases:
    """What servers lease to each host that asks (`address: dhcp`), once all have asked in their order (RFC 2131).

    Args:
        network: the network.

    Returns:
        For each such host its `address` with the prefix length, `gateway`, `server` (a device or host) and `relay`
        (`DEVICE/INTERFACE`, or None where the server is in its own domain); None for one that gets nothing.

    Example:
        >>> len(archipelago.leases(archipelago.Network()))
        0
    """
    from archipelago.knowledge.index import index_network
    from archipelago.views.leases import look

    return look(index_network(network))


@checked
def redundancy(network: Network) -> Redundancy:
    """What the spanning tree blocks (IEEE 802.1Q-2022, clause 13) and who is active in shared gateways (RFC 9568), in
    the steady state.

    Args:
        network: the network.

    Returns:
        `root`, of each device that takes part in the tree its root; `blocked`, ports and aggregates as `DEVICE/PORT`;
        `active`, for each virtual router in each broadcast domain with a member that is up its `vrid`, `family`,
        `members` and the `active` one (`DEVICE/INTERFACE`; None where all hear a better one that does not hear them).

    Example:
        >>> archipelago.redundancy(archipelago.Network()).blocked
        ()
    """
    from archipelago.knowledge.index import index_network
    from archipelago.views.redundancy import look

    return look(index_network(network))


@checked
def export(network: Network, format: str = "linux") -> str | bytes | dict[str, str]:
    """A network in an open format.

    Args:
        network: the network.
        format: "linux": a shell script that builds it from namespaces of a Linux kernel; "csv", "tsv" or
            "markdown": its address list; "xlsx": that and its cables as a workbook; "zone": its names as zone files.

    Returns:
        The text, of a workbook its bytes; where the format is several files, the text of each by its name.

    Raises:
        QueryError: there is no such format, or the network does not say what it needs.

    Example:
        >>> archipelago.export(network, "linux").splitlines()[0]
        '#!/bin/sh'
    """
    from archipelago.errors import QueryError
    from archipelago.views.formats import FORMATS

    if format not in FORMATS:
        raise QueryError(f"there is no format '{format}'; there are: {', '.join(FORMATS)}")
    made = FORMATS[format].made(network)
    return made if isinstance(made, (str, bytes)) else dict(made)


@checked
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

    return zone_files(network)


@checked
def rehearse(
    network: Network,
    sources: Sequence[str] = (),
    targets: Sequence[str] = (),
    *,
    seconds: float = 300.0,
    probe: str = "icmp",
    part: str | None = None,
) -> Rehearsal:
    """Build the network in a real kernel, send real probes, and compare its answers with the simulation's.

    Where a `part` is named it breaks first, as it would break, and its daemons and spanning tree take over as they do.
    All pairs are then asked once that is over; with one source and one target that one probes the other meanwhile, ten
    times a second, and what is lost is told beside what `break_part` says.

    Args:
        network: the network.
        sources: hosts that send; by default all.
        targets: hosts that are asked for; by default all.
        seconds: the longest that the kernel may take.
        probe: what is sent: `icmp` (an echo request), or the first packet to a port: `tcp/443`, `udp/53`.
        part: what breaks first: a device, a host, `DEVICE/PORT`, `DEVICE/INTERFACE`, or a cable (`A/p1 ~ B/p2`).

    Returns:
        Both answers for every pair.

    Raises:
        QueryError: a host or the part does not exist, the network would storm, or the time is not a number above 0.
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

    return run(network, list(sources), list(targets), seconds, parse_probe(probe), part)


@checked
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


@checked
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
