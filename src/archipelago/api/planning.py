"""Subnets carved, networks designed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

from archipelago.api.arguments import checked

if TYPE_CHECKING:
    from archipelago.addressing.carve import Carving, Need
    from archipelago.model.brief import Brief
    from archipelago.model.network import Network
    from archipelago.model.plan import Design
    from archipelago.weighing.growth import Foreseen
    from archipelago.weighing.result import Weighing


@checked
def carve(
    space: str | Iterable[str],
    needs: Mapping[str, int | tuple[int, int]],
    *,
    headroom: float = 0.25,
    gateway: str = "first",
    pins: Mapping[str, str] | None = None,
    ids: Mapping[str, int] | None = None,
    reserved: Iterable[str] = (),
    by_vlan_id: bool = False,
) -> Carving:
    """Allocate a subnet for each need.

    Args:
        space: one or more prefixes to allocate from, such as "10.44.0.0/20"; IPv4 and IPv6 may be mixed.
        needs: hosts by name; where there will be more, how many now and later: room is made for these.
        headroom: free room kept in each subnet, as a share of its hosts.
        gateway: "first", "last", "+N" or "-N": where in its subnet a gateway's address sits.
        pins: subnets that are decided already, by name.
        ids: VLAN ids by name.
        reserved: prefixes that must not be given out.
        by_vlan_id: make the VLAN id readable in the subnet where it fits.

    Returns:
        An allotment for each need and family, and what stays free.

    Raises:
        AddressError: a text is not a prefix.
        CarveError: what is asked contradicts itself or does not fit, and what would.

    Example:
        >>> import archipelago
        >>> found = archipelago.carve("10.44.0.0/21", {"tickets": 45, "crew": 110})
        >>> for allotment in found.allotments:
        ...     print(allotment.name, allotment.prefix, allotment.gateway)
        tickets 10.44.1.0/26 10.44.1.1
        crew 10.44.0.0/24 10.44.0.1
    """
    from archipelago.addressing.carve import carve as carve_needs
    from archipelago.addressing.convention import gateway_convention
    from archipelago.addressing.values import parse_prefix
    from archipelago.errors import CarveError

    spaces = [space] if isinstance(space, str) else list(space)
    pins, ids = pins or {}, ids or {}
    unknown = [name for name in {**pins, **ids} if name not in needs]
    if unknown:
        raise CarveError([f"'{name}' is pinned or numbered but not among the needs" for name in unknown])
    return carve_needs(
        [parse_prefix(prefix) for prefix in spaces],
        _needs(needs, ids, pins),
        reserved=[parse_prefix(prefix) for prefix in reserved],
        headroom=headroom,
        gateway=gateway_convention(gateway),
        by_vlan_id=by_vlan_id,
    )


def _needs(needs: Mapping[str, int | tuple[int, int]], ids: Mapping[str, int], pins: Mapping[str, str]) -> list[Need]:
    """What is asked for, as the carving takes it."""
    from archipelago.addressing.carve import Need
    from archipelago.addressing.values import parse_prefix
    from archipelago.errors import CarveError

    counts = {name: hosts if isinstance(hosts, tuple) else (hosts, 0) for name, hosts in needs.items()}
    fewer = [name for name, (now, later) in counts.items() if 0 < later < now]
    if fewer:
        raise CarveError([f"'{name}' has fewer hosts later than now; write how many there will be" for name in fewer])
    return [
        Need(name, now, ids.get(name), pinned=(parse_prefix(pins[name]),) if name in pins else (), later=later)
        for name, (now, later) in counts.items()
    ]


@checked
def design(brief: Brief, keep: Network | None = None, *, accept_losses: bool = False) -> Design:
    """Turn a brief into a network that holds everything decided, with the decisions and their reasons.

    Args:
        brief: what is needed.
        keep: a network in use: nothing that it holds and the brief still names is moved, and what works in it goes on
            working.
        accept_losses: design it, too, where something of that is lost.

    Returns:
        The network, the carving, each decision, and what to ask of others.

    Raises:
        DesignError: with everything that cannot be built, each with its remedy; or why what was built would not work:
            it is audited, all its pairs are decided and what it expects is checked before it is given out.

    Example:
        >>> made = archipelago.design(brief)
        >>> made.network.devices["slip"].ports["p12"].trunk
        (120, 140)
    """
    from archipelago.design.build import design as build
    from archipelago.errors import DesignError
    from archipelago.proof.design import lost_by, shortcomings

    made = build(brief, keep)
    reasons = shortcomings(made.network)
    if reasons:
        raise DesignError([f"the network of this brief would not work: {reason}" for reason in reasons])
    lost = lost_by(made.network, keep) if keep is not None and not accept_losses else []
    if lost:
        raise DesignError([f"something that works would be lost: {one} (--accept-losses designs it)" for one in lost])
    return made


@checked
def weigh(
    brief: Brief,
    *,
    keep: Network | None = None,
    host: str | None = None,
    suppose: Sequence[str] = (),
    growth: float = 1.0,
    full: float = 0.7,
    tolerate: float = 0.0,
    devices: bool = False,
) -> Weighing:
    """Weigh the places where the gateways of a brief could be: on a router behind a trunk, a router port for each VLAN,
    on a layer 3 switch, shared by two, or some of each. Every design is proved as `design` proves it, loaded with the
    brief's `traffic` (or the rule of thumb of `traffic`), and every part of it broken in turn.

    Args:
        brief: what is needed.
        keep: a network in use: what can stay does, and the steps from it to the first three are counted.
        host: where the person sits who would make these steps; by default the first host of both.
        suppose: switches to be looked at as if they were layer 3 switches.
        growth: so many times the traffic there is.
        full: from which share of its speed on a link counts as full.
        tolerate: which share of pairs more or fewer that survive failures makes no difference.
        devices: also count the pairs with an address of a device at an end that each design reaches.

    Returns:
        The designs, the best first, each with its figures; a recommendation; and the figure at which the second comes
        first, which was put in and tried.

    Raises:
        QueryError: there is nothing to place, a switch is none, or a figure is out of bounds.
        DesignError: no design works.

    Example:
        >>> print(archipelago.weigh(brief).designs[0].kind)
        trunked router
    """
    from archipelago.errors import QueryError
    from archipelago.weighing.ranking import Figures
    from archipelago.weighing.weigh import weigh as run

    if not (growth > 0 and 0 < full <= 1 and 0 <= tolerate <= 1):
        raise QueryError("growth is above 0, a link is full at a share above 0 and up to 1, a tolerance is 0 to 1")
    if keep is not None and host is not None and host not in keep.hosts:
        raise QueryError(f"there is no host '{host}' in the network to keep")
    return run(brief, Figures(growth, full, tolerate), keep=keep, host=host, suppose=suppose, devices=devices)


@checked
def foresee(brief: Brief, design: Design) -> Foreseen:
    """What of a design runs out as its brief foresees that hosts become more (`later` of a VLAN, `growth` and `years`
    under `conventions`): subnets, pools, ports, links; after how many years, and what it takes then.

    Args:
        brief: the brief.
        design: what `design` made of it.

    Returns:
        What runs out, the first first; of the first of each kind what it takes then: renumbering is planned step by
        step to say so.

    Example:
        >>> print(archipelago.foresee(brief, archipelago.design(brief)).headline)
        nothing runs out: the brief foresees no more hosts than today
    """
    from archipelago.weighing.growth import foresee as run

    return run(brief, design)
