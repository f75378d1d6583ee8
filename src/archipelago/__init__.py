"""Archipelago: plan the gateways between VLANs, and know which host will reach which before touching a device.

The public calls. Each loads what it needs when it is called, so importing the package costs next to nothing.
Results are plain frozen data; `to_json` and `to_table` turn any of them into JSON-ready values or a pandas table.
"""

from __future__ import annotations

__version__ = "0.1.0"

from collections.abc import Iterable, Iterator, Sequence
from os import PathLike
from typing import TYPE_CHECKING, Any

# Importing a room binds its name here, so the rooms whose names are public calls too come first; the calls below
# then keep the names. Both packages are empty: this loads nothing.
from archipelago import audit as _audit_room
from archipelago import design as _design_room
from archipelago.errors import AddressError, ArchipelagoError, CarveError, DesignError, DocumentError, QueryError

del _audit_room, _design_room

if TYPE_CHECKING:
    import pandas

    from archipelago.addressing.carve import Carving
    from archipelago.model.brief import Brief
    from archipelago.model.expectation import Expectation
    from archipelago.model.finding import Edit, Finding
    from archipelago.model.network import Network
    from archipelago.model.plan import Design
    from archipelago.reachability.expect import Verdict
    from archipelago.reachability.matrix import Matrix
    from archipelago.simulation.reach import ReachResult

__all__ = [
    "AddressError",
    "ArchipelagoError",
    "CarveError",
    "DesignError",
    "DocumentError",
    "QueryError",
    "amend",
    "assert_expected",
    "audit",
    "carve",
    "design",
    "draw",
    "expectations",
    "matrix",
    "network_text",
    "reach",
    "read_brief",
    "read_network",
    "to_json",
    "to_table",
    "what_if",
    "write_network",
]


def read_network(path: str | PathLike[str]) -> Network:
    """Read a network document.

    Raises:
        DocumentError: with every problem of the file, each with its line and column.
    """
    from archipelago.files.disk import read_bytes
    from archipelago.files.network import network_from
    from archipelago.files.tree import parse

    return network_from(parse(read_bytes(path), str(path)))


def read_brief(path: str | PathLike[str]) -> Brief:
    """Read a brief.

    Raises:
        DocumentError: with every problem of the file, each with its line and column.
    """
    from archipelago.files.brief import brief_from
    from archipelago.files.disk import read_bytes
    from archipelago.files.tree import parse

    return brief_from(parse(read_bytes(path), str(path)))


def network_text(network: Network) -> str:
    """A network as the text of its document; reading it back gives an equal network."""
    from archipelago.files.emit import emit
    from archipelago.files.write import document_of

    return emit(document_of(network))


def write_network(network: Network, path: str | PathLike[str]) -> None:
    """Write a network document, whole or not at all.

    Raises:
        DocumentError: the place cannot be written to.
    """
    from archipelago.files.disk import write_whole

    write_whole(path, network_text(network))


def carve(
    space: str | Iterable[str],
    needs: dict[str, int],
    *,
    headroom: float = 0.25,
    gateway: str = "first",
    pins: dict[str, str] | None = None,
    ids: dict[str, int] | None = None,
    reserved: Iterable[str] = (),
    by_vlan_id: bool = False,
) -> Carving:
    """Allocate a subnet for each need.

    Args:
        space: one or more prefixes to allocate from, such as "10.44.0.0/20"; IPv4 and IPv6 may be mixed.
        needs: hosts by name.
        headroom: free room kept in each subnet, as a share of its hosts.
        gateway: "first", "last", "+N" or "-N": where in its subnet a gateway's address sits.
        pins: subnets that are decided already, by name.
        ids: VLAN ids by name.
        reserved: prefixes that must not be given out.
        by_vlan_id: make the VLAN id readable in the subnet where it fits.

    Raises:
        AddressError: a text is not a prefix.
        CarveError: what is asked contradicts itself or does not fit, and what would.
    """
    from archipelago.addressing.carve import Need
    from archipelago.addressing.carve import carve as carve_needs
    from archipelago.addressing.convention import gateway_convention
    from archipelago.addressing.values import parse_prefix

    spaces = [space] if isinstance(space, str) else list(space)
    unknown = [name for name in {**(pins or {}), **(ids or {})} if name not in needs]
    if unknown:
        raise CarveError([f"'{name}' is pinned or numbered but not among the needs" for name in unknown])
    return carve_needs(
        [parse_prefix(one) for one in spaces],
        [
            Need(
                name, hosts, (ids or {}).get(name), pinned=(parse_prefix(pins[name]),) if pins and name in pins else ()
            )
            for name, hosts in needs.items()
        ],
        reserved=[parse_prefix(one) for one in reserved],
        headroom=headroom,
        gateway=gateway_convention(gateway),
        by_vlan_id=by_vlan_id,
    )


def design(brief: Brief, keep: Network | None = None) -> Design:
    """Turn a brief into a network that holds everything decided, with the decisions and their reasons.

    Args:
        brief: what is needed.
        keep: a network in use: nothing that it holds and the brief still names is moved.

    Raises:
        DesignError: with everything that cannot be built, each with its remedy.
    """
    from archipelago.design.build import design as build

    return build(brief, keep)


def audit(network: Network) -> tuple[Finding, ...]:
    """What is wrong or risky in a network, worst first, each with the edits that mend it; what it expects and does not
    hold is among them."""
    from archipelago.audit.registry import run, sort
    from archipelago.knowledge.index import index_network

    index = index_network(network)
    found = run(index)
    if not network.expect:
        return found
    from archipelago.reachability.expect import findings

    return sort(network, (*found, *findings(index.knowledge)))


def reach(network: Network, source: str, target: str, *, probes: int = 5, family: int | None = None) -> ReachResult:
    """Ask whether a probe gets from one end to the other and back, frame by frame, from cold tables.

    Args:
        network: the network.
        source: a host, a device, DEVICE/INTERFACE, or "outside".
        target: the same, or an address.
        probes: how many echo requests at least, one a second; more follow while tables still fill.
        family: 4 or 6; by default IPv4 where both ends have it, else IPv6. Where they have both, the answer in IPv6 is
            the answer's `other_family`.

    Raises:
        QueryError: an end does not exist, or no port leads outside.
    """
    from dataclasses import replace

    from archipelago.knowledge.ends import common_families, find_end, find_source
    from archipelago.knowledge.index import index_network
    from archipelago.model.expectation import OUTSIDE
    from archipelago.simulation.reach import reach as ask

    index = index_network(network)
    pairs = [(source, target)]
    if OUTSIDE in (source, target) and OUTSIDE not in index.knowledge.nodes:
        from archipelago.knowledge.outside import NOTHING_LEADS, with_outside

        wider, outside = with_outside(index.knowledge)
        if not outside:
            raise QueryError(NOTHING_LEADS)
        index = index_network(wider)
        pairs = [(one, target) if source == OUTSIDE else (source, one) for one in outside]
    ends = [(find_source(index, one), find_end(index, other)) for one, other in pairs]

    def answer(version: int | None) -> ReachResult:
        answers = [ask(index, *ends[0], probes=probes, family=version)]
        for one in ends[1:]:
            if not answers[-1].reached:
                answers.append(ask(index, *one, probes=probes, family=version))
        return answers[-1] if answers[-1].reached else answers[0]

    first = answer(family)
    if family is not None or len(common_families(*ends[0])) < 2:
        return first
    return replace(first, other_family=answer(6))


def matrix(network: Network, family: int | None = None, *, without: Sequence[str] = (), causes: bool = True) -> Matrix:
    """Decide every ordered pair of hosts, both ways, in arrays.

    Args:
        network: the network.
        family: 4 or 6; by default IPv4 for the pairs where both ends have it, else IPv6.
        without: parts to switch off first: devices, hosts, "DEVICE/PORT", "DEVICE/INTERFACE", cables, VLANs.
        causes: also say why what is not reached is not, grouped by mistake.

    Raises:
        QueryError: there is no such part.
    """
    from archipelago.knowledge.known import know
    from archipelago.reachability.build import build_arrays
    from archipelago.reachability.matrix import matrix as decide
    from archipelago.reachability.matrix import without as switched_off

    arrays = build_arrays(know(network))
    return decide(switched_off(arrays, without) if without else arrays, family, causes=causes)


def what_if(
    network: Network, parts: Iterable[str | Sequence[str]], family: int | None = None
) -> Iterator[tuple[str | Sequence[str], Matrix]]:
    """All pairs with each part, or each set of parts, switched off in turn; far cheaper than as many matrices.

    Args:
        network: the network.
        parts: what to switch off, as in `matrix`.
        family: as in `matrix`.

    Raises:
        QueryError: there is no such part.
    """
    from archipelago.reachability.matrix import what_if as decide

    return decide(network, parts, family)


def expectations(
    network: Network, expect: Iterable[Expectation | tuple[str, str, bool]] | None = None, family: int | None = None
) -> tuple[Verdict, ...]:
    """Check what must hold; each verdict is true where it does, and its text says which pairs break it.

    Args:
        network: the network.
        expect: (source, target, reached) for VLANs, hosts, subnets, addresses or "outside"; by default what the network
            itself expects.
        family: as in `matrix`.

    Raises:
        QueryError: an end does not exist.
    """
    from dataclasses import replace

    from archipelago.knowledge.known import know
    from archipelago.model.expectation import Expectation
    from archipelago.reachability.expect import check

    if expect is not None:
        wanted = tuple(one if isinstance(one, Expectation) else Expectation(*one) for one in expect)
        network = replace(network, expect=wanted)
    return check(know(network), family).verdicts


def assert_expected(
    network: Network, expect: Iterable[Expectation | tuple[str, str, bool]] | None = None, family: int | None = None
) -> None:
    """Raise AssertionError, with every expectation that does not hold, for a team that keeps its network under test.

    Args and raised errors are those of `expectations`.
    """
    broken = [str(one) for one in expectations(network, expect, family) if not one]
    if broken:
        raise AssertionError("\n".join(broken))


def amend(text: str, edits: Sequence[Edit]) -> str:
    """A document's text with edits made (those of a finding or an answer); comments and order stay."""
    from archipelago.files.edit import apply

    return apply(text, edits)


def draw(network: Network, path: str | PathLike[str]) -> None:
    """Draw the diagram of a network into an SVG or PNG file, by the ending of its name.

    Raises:
        QueryError: the name ends in neither .svg nor .png.
        DocumentError: the place cannot be written to.
    """
    from archipelago.files.disk import write_whole
    from archipelago.views.draw import picture_of

    write_whole(path, picture_of(network, str(path)))


def to_json(result: Any) -> Any:
    """Any result as plain lists, dictionaries, texts and numbers, with stable keys."""
    from archipelago.views.plain import plain

    return plain(result)


def to_table(result: Any, by: str = "class") -> pandas.DataFrame:
    """A result that is a table (a carving, findings, decisions, steps, a matrix) as a pandas table.

    Args:
        result: what another call returned.
        by: for a matrix: "class" (hosts that fare alike, under the name of the first), "host", or "pair" (columns
            source, destination, reached).

    Raises:
        QueryError: a matrix has too many hosts to be laid out host by host.
    """
    from archipelago.views.plain import frame

    return frame(result, by)
