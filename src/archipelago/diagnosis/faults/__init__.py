"""One maker for each kind of mistake: its slug, its wording, and the edits that mend it."""

from archipelago.diagnosis.faults.hosts import (
    address_broadcast,
    address_unheld,
    duplicate_address,
    gateway_missing,
    gateway_wrong,
    held_by_another,
    host_unaddressed,
    link_mask_mismatch,
    mask_mismatch,
    no_gateway_in_subnet,
    prefix_unadvertised,
    vlan_wrong,
)
from archipelago.diagnosis.faults.interfaces import (
    no_gateway_in_vlan,
    tag_mismatch,
    tag_missing,
    tag_repeated,
    tag_wrong,
    vlan_interface_down,
)
from archipelago.diagnosis.faults.links import (
    admin_down,
    cable_off,
    no_layer2_path,
    not_cabled,
    switching_loop,
    unexplained,
)
from archipelago.diagnosis.faults.routing import (
    next_hop_unusable,
    route_missing,
    routes_missing,
    routing_loop,
    routing_off,
)
from archipelago.diagnosis.faults.switching import trunk_expected, untagged_vlan_mismatch, vlan_absent, vlan_not_carried
from archipelago.diagnosis.faults.words import label, node_path

__all__ = [
    "address_broadcast",
    "address_unheld",
    "admin_down",
    "cable_off",
    "duplicate_address",
    "gateway_missing",
    "gateway_wrong",
    "held_by_another",
    "host_unaddressed",
    "label",
    "link_mask_mismatch",
    "mask_mismatch",
    "next_hop_unusable",
    "no_gateway_in_subnet",
    "no_gateway_in_vlan",
    "no_layer2_path",
    "node_path",
    "not_cabled",
    "prefix_unadvertised",
    "route_missing",
    "routes_missing",
    "routing_loop",
    "routing_off",
    "switching_loop",
    "tag_mismatch",
    "tag_missing",
    "tag_repeated",
    "tag_wrong",
    "trunk_expected",
    "unexplained",
    "untagged_vlan_mismatch",
    "vlan_absent",
    "vlan_interface_down",
    "vlan_not_carried",
    "vlan_wrong",
]
