"""Archipelago: plan the gateways between VLANs, and know which host will reach which before touching a device.

The public calls and the public types, and nothing else. Each call loads what it needs when it is called, so importing
the package costs next to nothing. Results are plain frozen data that print well; `to_json` and `to_table` turn any of
them into JSON-ready values or a pandas table.

The examples in their docstrings share one network and one brief, `network` and `brief`: those of
`examples/slipway-network.yaml` and `examples/slipway-brief.yaml`.
"""

from __future__ import annotations

__version__ = "0.1.0"

from importlib import import_module
from typing import TYPE_CHECKING, Any

# Importing a room binds its name here, so the rooms whose names are public calls too come first; the calls below then
# keep the names. Both packages are empty: this loads nothing.
from archipelago import audit as _audit_room
from archipelago import design as _design_room
from archipelago.api.asking import broadcast, lease, reach, reach_in_order, trace
from archipelago.api.breaking import break_part, outages
from archipelago.api.changing import apply, change, compare, follow, read_recipe, setting_up
from archipelago.api.checking import assert_expected, audit, check_policy, expectations, matrix, mend, what_if
from archipelago.api.drawing import draw
from archipelago.api.loading import traffic
from archipelago.api.planning import carve, design, foresee, weigh
from archipelago.api.reading import (
    amend,
    brief_text,
    needs_of,
    network_text,
    read_addressing_table,
    read_as_built,
    read_brief,
    read_network,
    schema,
    write_brief,
    write_network,
)
from archipelago.api.recording import record, recorded, records, restore
from archipelago.api.showing import export, leases, redundancy, rehearse, to_json, to_table, view, zones
from archipelago.errors import (
    AddressError,
    ArchipelagoError,
    CarveError,
    DesignError,
    DocumentError,
    EditError,
    KernelError,
    ModelError,
    QueryError,
    TrafficError,
)

del _audit_room, _design_room

if TYPE_CHECKING:
    from archipelago.addressing.carve import Carving
    from archipelago.addressing.values import (
        Address,
        InterfaceAddress,
        Prefix,
        parse_address,
        parse_interface_address,
        parse_prefix,
    )
    from archipelago.answer import Answer
    from archipelago.audit.result import AuditResult
    from archipelago.changes.comparison import Comparison
    from archipelago.changes.from_empty import SettingUp
    from archipelago.changes.result import Change, Step
    from archipelago.exchange.rehearsal import Rehearsal
    from archipelago.failures.result import Outage, Outages
    from archipelago.files.as_built import AsBuilt
    from archipelago.files.codecs import parse_next_hop
    from archipelago.files.repository import Record, Records
    from archipelago.load.result import BrokenLoad, DemandLoad, LinkLoad, Load
    from archipelago.model.brief import Brief, Conventions, DeviceNeed, GatewayPlace, HostNeed, Outside, VlanNeed
    from archipelago.model.demand import Demand
    from archipelago.model.expectation import Expectation
    from archipelago.model.finding import REMOVE, Edit, Finding
    from archipelago.model.network import Network
    from archipelago.model.parts import (
        Aggregate,
        Cable,
        Device,
        End,
        Host,
        Loopback,
        NextHop,
        Port,
        Route,
        Subinterface,
        VlanInterface,
    )
    from archipelago.model.plan import Decision, Design
    from archipelago.model.recipe import Recipe
    from archipelago.proof.mending import MendResult
    from archipelago.reachability.kept import Kept
    from archipelago.reachability.matrix import Matrix
    from archipelago.reachability.verdict import Verdict, Verdicts
    from archipelago.simulation.explore import Broadcast, Trace
    from archipelago.simulation.in_order import Check, InOrder
    from archipelago.simulation.lease import LeaseResult
    from archipelago.simulation.reach import ReachResult
    from archipelago.views.leases import Leases
    from archipelago.views.redundancy import Redundancy
    from archipelago.views.view import View
    from archipelago.weighing.growth import Foreseen
    from archipelago.weighing.result import Weighed, Weighing

_TYPES = {
    "addressing.carve": ("Carving",),
    "answer": ("Answer",),
    "addressing.values": (
        *("Address", "InterfaceAddress", "Prefix"),
        *("parse_address", "parse_interface_address", "parse_prefix"),
    ),
    "proof.mending": ("MendResult",),
    "changes.comparison": ("Comparison",),
    "changes.from_empty": ("SettingUp",),
    "changes.result": ("Change", "Step"),
    "exchange.rehearsal": ("Rehearsal",),
    "failures.result": ("Outage", "Outages"),
    "files.as_built": ("AsBuilt",),
    "files.codecs": ("parse_next_hop",),
    "files.repository": ("Record", "Records"),
    "audit.result": ("AuditResult",),
    "load.result": ("BrokenLoad", "DemandLoad", "LinkLoad", "Load"),
    "model.demand": ("Demand",),
    "model.brief": ("Brief", "Conventions", "DeviceNeed", "GatewayPlace", "HostNeed", "Outside", "VlanNeed"),
    "model.expectation": ("Expectation",),
    "model.finding": ("REMOVE", "Edit", "Finding"),
    "model.network": ("Network",),
    "model.parts": (
        *("Aggregate", "Cable", "Device", "End", "Host", "Loopback", "NextHop", "Port", "Route", "Subinterface"),
        "VlanInterface",
    ),
    "model.plan": ("Decision", "Design"),
    "model.recipe": ("Recipe",),
    "reachability.verdict": ("Verdict", "Verdicts"),
    "reachability.kept": ("Kept",),
    "reachability.matrix": ("Matrix",),
    "simulation.explore": ("Broadcast", "Trace"),
    "simulation.in_order": ("Check", "InOrder"),
    "simulation.lease": ("LeaseResult",),
    "simulation.reach": ("ReachResult",),
    "views.leases": ("Leases",),
    "views.redundancy": ("Redundancy",),
    "views.view": ("View",),
    "weighing.growth": ("Foreseen",),
    "weighing.result": ("Weighed", "Weighing"),
}
"""Where the public types live; each is loaded when somebody asks for it."""
_HOMES = {name: module for module, names in _TYPES.items() for name in names}

__all__ = [
    "REMOVE",
    "Address",
    "AddressError",
    "Aggregate",
    "Answer",
    "ArchipelagoError",
    "AsBuilt",
    "AuditResult",
    "Brief",
    "Broadcast",
    "BrokenLoad",
    "Cable",
    "CarveError",
    "Carving",
    "Change",
    "Check",
    "Comparison",
    "Conventions",
    "Decision",
    "Demand",
    "DemandLoad",
    "Design",
    "DesignError",
    "Device",
    "DeviceNeed",
    "DocumentError",
    "Edit",
    "EditError",
    "End",
    "Expectation",
    "Finding",
    "Foreseen",
    "GatewayPlace",
    "Host",
    "HostNeed",
    "InOrder",
    "InterfaceAddress",
    "Kept",
    "KernelError",
    "LeaseResult",
    "Leases",
    "LinkLoad",
    "Load",
    "Loopback",
    "Matrix",
    "MendResult",
    "ModelError",
    "Network",
    "NextHop",
    "Outage",
    "Outages",
    "Outside",
    "Port",
    "Prefix",
    "QueryError",
    "ReachResult",
    "Recipe",
    "Record",
    "Records",
    "Redundancy",
    "Rehearsal",
    "Route",
    "SettingUp",
    "Step",
    "Subinterface",
    "Trace",
    "TrafficError",
    "Verdict",
    "Verdicts",
    "View",
    "VlanInterface",
    "VlanNeed",
    "Weighed",
    "Weighing",
    "amend",
    "apply",
    "assert_expected",
    "audit",
    "break_part",
    "brief_text",
    "broadcast",
    "carve",
    "change",
    "check_policy",
    "compare",
    "design",
    "draw",
    "expectations",
    "export",
    "follow",
    "foresee",
    "lease",
    "leases",
    "matrix",
    "mend",
    "needs_of",
    "network_text",
    "outages",
    "parse_address",
    "parse_interface_address",
    "parse_next_hop",
    "parse_prefix",
    "reach",
    "reach_in_order",
    "read_addressing_table",
    "read_as_built",
    "read_brief",
    "read_network",
    "read_recipe",
    "record",
    "recorded",
    "records",
    "redundancy",
    "rehearse",
    "restore",
    "schema",
    "setting_up",
    "to_json",
    "to_table",
    "trace",
    "traffic",
    "view",
    "weigh",
    "what_if",
    "write_brief",
    "write_network",
    "zones",
]


def __getattr__(name: str) -> Any:
    home = _HOMES.get(name)
    if home is None:
        raise AttributeError(f"module 'archipelago' has no attribute '{name}'")
    member = getattr(import_module(f"archipelago.{home}"), name)
    globals()[name] = member
    return member


def __dir__() -> list[str]:
    return sorted(__all__)
