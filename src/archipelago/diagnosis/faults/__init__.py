"""One maker for each kind of mistake: its slug, its wording, and the edits that mend it."""

from archipelago.diagnosis.faults.hosts import (
    address_broadcast,
    address_repeated,
    address_unheld,
    gateway_absent,
    gateway_missing,
    gateway_wrong,
    host_unaddressed,
    link_mask_differs,
    mask_differs,
    prefix_unadvertised,
    vlan_wrong,
)
from archipelago.diagnosis.faults.interfaces import (
    gateway_unplaced,
    tag_missing,
    tag_repeated,
    tag_wrong,
    vlan_unported,
)
from archipelago.diagnosis.faults.links import cable_off, no_way, not_cabled, switched_off, switching_loop, unexplained
from archipelago.diagnosis.faults.routing import route_dead, route_missing, routes_missing, routing_loop, routing_off
from archipelago.diagnosis.faults.switching import trunk_expected, untagged_differs, vlan_absent, vlan_not_carried
from archipelago.diagnosis.faults.words import label, node_path

__all__ = [
    "address_broadcast",
    "address_repeated",
    "address_unheld",
    "cable_off",
    "gateway_absent",
    "gateway_missing",
    "gateway_unplaced",
    "gateway_wrong",
    "host_unaddressed",
    "label",
    "link_mask_differs",
    "mask_differs",
    "no_way",
    "node_path",
    "not_cabled",
    "prefix_unadvertised",
    "route_dead",
    "route_missing",
    "routes_missing",
    "routing_loop",
    "routing_off",
    "switched_off",
    "switching_loop",
    "tag_missing",
    "tag_repeated",
    "tag_wrong",
    "trunk_expected",
    "unexplained",
    "untagged_differs",
    "vlan_absent",
    "vlan_not_carried",
    "vlan_unported",
    "vlan_wrong",
]
