"""Build a network in Python, find its mistake, mend it, draw it."""

from archipelago import (
    Cable,
    Device,
    End,
    Host,
    Network,
    Port,
    Subinterface,
    amend,
    audit,
    draw,
    matrix,
    network_text,
    parse_interface_address,
    parse_next_hop,
    read_network,
)

VLANS = {"crew": 120, "cameras": 140}
GATEWAYS = {"crew": "10.44.20.1/25", "cameras": "10.44.20.129/26"}

office = Device(
    "pier-office",
    "router",
    ports={"p1": Port("p1")},
    interfaces={
        f"p1.{tag}": Subinterface(f"p1.{tag}", "p1", tag, addresses=(parse_interface_address(GATEWAYS[name]),))
        for name, tag in VLANS.items()
    },
)
slip = Device(
    "slip",
    "switch",
    ports={
        "p1": Port("p1", access=120),
        "p2": Port("p2", access=140),
        "p12": Port("p12", trunk=(120,), untagged="none"),  # the cameras were forgotten
    },
)
hosts = (
    Host("winch", End("slip", "p1"), (parse_interface_address("10.44.20.2/25"),), (parse_next_hop("10.44.20.1"),)),
    Host(
        "lookout", End("slip", "p2"), (parse_interface_address("10.44.20.130/26"),), (parse_next_hop("10.44.20.129"),)
    ),
)
network = Network(
    "Tern Bay, slipway",
    VLANS,
    {"pier-office": office, "slip": slip},
    {host.name: host for host in hosts},
    (Cable(End("pier-office", "p1"), End("slip", "p12")),),
)

findings = audit(network)
print(findings)
mended = read_network(amend(network_text(network), [edit for finding in findings for edit in finding.edits]))
print(matrix(mended), audit(mended), sep="\n")
draw(mended, "slipway.svg")
