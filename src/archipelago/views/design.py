"""A design as people decide by it: what others must do first, then a row for each VLAN, then what else was decided."""

from __future__ import annotations

from archipelago.model.parts import Subinterface, VlanInterface
from archipelago.model.plan import Decision, Design
from archipelago.views.carving import SHAPE as CARVED
from archipelago.views.face import Face, Part, set_apart
from archipelago.views.plain import plain_fields
from archipelago.views.schema import COUNT, DOCUMENT, TEXT, record, several
from archipelago.views.table import Table, counted, table

MOST_VLANS = 15
"""So many VLANs are listed where not all is asked for."""
MOST_SHOWN = 3
"""So many addresses of a line are shown; the others are counted."""


def tables(made: Design) -> list[Table]:
    """The VLANs, the lines of the filters, and the other decisions."""
    return [vlans(made), lines(made), others(made)]


def vlans(made: Design) -> Table:
    """A row for each VLAN: its subnets, its gateways and where they are, and why so."""
    by_name: dict[str, list[Decision]] = {}
    for decision in made.decisions:
        by_name.setdefault(decision.subject, []).append(decision)
    allotted: dict[str, list[tuple[str, str]]] = {}
    for allotment in made.carving.allotments:
        allotted.setdefault(allotment.name, []).append((str(allotment.prefix), str(allotment.gateway or "")))
    places: dict[int | None, list[str]] = {}
    for device in made.network.devices.values():
        for interface in device.interfaces.values() if device.kind != "switch" else ():
            vlan = interface.tag if isinstance(interface, Subinterface) else None
            vlan = interface.vlan if isinstance(interface, VlanInterface) else vlan
            if vlan is not None and interface.addresses:
                places.setdefault(vlan, []).append(f"{device.name}/{interface.name}")
    rows = []
    for name, number in made.network.vlans.items():
        subnets = allotted.get(name, [])
        why = dict.fromkeys(part for decision in by_name.get(name, ()) for part in decision.why.split("; "))
        rows.append(
            (
                f"{name} ({number})",
                ", ".join(prefix for prefix, _ in subnets),
                ", ".join(gateway for _, gateway in subnets if gateway),
                ", ".join(places.get(number, ())),
                "; ".join(why),
            )
        )
    heads = ("VLAN", "subnet", "gateway", "at", "because")
    return table("VLANs", heads, rows, least=("because",), first=MOST_VLANS)


def lines(made: Design) -> Table:
    """Each line of each filter, and which line of the policy it serves."""
    rows: list[tuple[object, ...]] = []
    for one in made.lines:
        first = (one.filter, one.at) if one.number == 1 else ("", "")
        rows.append((*first, one.number, one.rule.text(MOST_SHOWN), one.serves))
    return table("lines of the filters", ("filter", "at", "line", "does", "serves of the policy"), rows)


def others(made: Design) -> Table:
    """What was decided beside the VLANs' subnets and their gateways' interfaces."""
    gateways = {
        f"{device.name}/{interface.name}"
        for device in made.network.devices.values()
        for interface in device.interfaces.values()
    }
    told = {*made.network.vlans, *gateways, *(f"link {cable}" for cable in made.network.cables)}
    rows = [(one.subject, one.decided, one.why) for one in made.decisions if one.subject not in told]
    return table("and beside them", ("about", "decided", "because"), rows, least=("because",))


def _body(made: Design) -> list[Part]:
    """What others must do, and the VLANs; how much else was decided."""
    rest = [(lines(made), "line", " of filters"), (others(made), "other decision", "")]
    counts = [f"{counted(len(one.rows), noun)}{of}" for one, noun, of in rest if one.rows]
    more = ["", f"and {' and '.join(counts)}: '--all' prints them"] if counts else []
    return [*_asked(made), *set_apart([vlans(made)]), *more]


def _whole(made: Design) -> list[Part]:
    return [*_asked(made), *set_apart(tables(made))]


def _asked(made: Design) -> list[Part]:
    return ["", "to ask of others", *(f"  {request}" for request in made.requests)] if made.requests else []


DESIGN = Face(
    name="design",
    verb="design",
    shape=record(
        network=DOCUMENT("the network, as its document has it"),
        carving=CARVED,
        decisions=several(record(subject=TEXT, decided=TEXT, why=TEXT)),
        requests=several(TEXT)("what others must set up"),
        lines=several(record(filter=TEXT, at=TEXT, number=COUNT, rule=TEXT, serves=TEXT)),
    ),
    values=lambda made: {
        **plain_fields(made),
        "carving": plain_fields(made.carving),
        "lines": [{**plain_fields(line), "rule": line.rule.text()} for line in made.lines],
    },
    tables=tables,
    body=_body,
    whole=_whole,
    rows=lambda made: made.decisions,
)
