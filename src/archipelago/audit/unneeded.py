"""VLANs where nobody needs them: on trunks, and in the catalogue."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from archipelago.audit.registry import rule
from archipelago.audit.switching import facing_attachments, users, whole
from archipelago.diagnosis.kind import ALWAYS, Example, Kind, finding
from archipelago.diagnosis.places import port_path
from archipelago.knowledge.alike import alike_hosts, port_settings
from archipelago.knowledge.devices import Attachment, Nic, Node
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import unblocked
from archipelago.knowledge.links import HOST_PORT
from archipelago.knowledge.topology import Layer2Endpoint, Topology, host_endpoint
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.parts import DEFAULT_VLAN, Path
from archipelago.model.problems import listed as listed_names

VLAN_NOT_NEEDED_ON_TRUNK = Kind(
    "vlan-not-needed-on-trunk",
    "note",
    "a trunk that carries a VLAN which nobody beyond it needs",
    "broadcasts of those VLANs cross the link for nothing",
    ALWAYS,
    example=Example(
        "pier",
        """
        devices:
          shed:
            ports:
              p9:
                trunk: [cameras, store, crew]
          core:
            ports:
              p8:
                trunk: [cameras, store, crew]
        """,
    ),
)


@rule
def excess(index: NetworkIndex) -> Iterator[Finding]:
    """A trunk that carries a VLAN that nobody beyond it needs."""
    everyone = index.once(users)
    peopled = {
        vlan for vlan, members in everyone.items() if any(node.kind in ("host", "switch") for node, _ in members)
    }
    planned = _planned(index)
    waiting = {vlan for _, vlan in planned}
    settled = {
        vlan for vlan, members in everyone.items() if vlan in peopled and _served(members) and whole(index, members)
    }
    needed = _needed(index, planned)
    alike: dict[tuple[str, tuple[int, ...]], list[tuple[str, Path, list[int]]]] = {}
    for node, link, _, far in index.once(facing_attachments):
        trunk = link.written.trunk
        if link.blocked or far.blocked:
            continue  # kept in reserve: it is to carry what the ways in use do
        if not link.switched or trunk is None or not link.carrier or (trunk == "all" and node.off):
            continue
        listed = sorted(link.vlans) if trunk == "all" else list(trunk)
        spare = [
            vlan
            for vlan in listed
            if vlan in link.vlans
            and (vlan in settled or (vlan not in everyone and vlan not in waiting))
            and vlan != link.untagged
            and not _crosses(index, node, link, vlan, needed)
        ]
        if not spare or any(vlan in everyone and vlan not in settled for vlan in spare):
            continue
        if not any(vlan in everyone for vlan in listed) and trunk != "all":
            continue
        if trunk == "all" and spare == [DEFAULT_VLAN]:
            continue  # nobody is in it, so that nothing is sent there
        keep = [vlan for vlan in listed if vlan not in spare and not (vlan == link.untagged and trunk == "all")]
        path = (*port_path(index.knowledge, node.name, link.name), "trunk")
        alike.setdefault((node.name, tuple(spare)), []).append((link.name, path, keep))
    for (device, spare_there), trunks in alike.items():
        first, *others = [f"{device}/{name}" for name, _, _ in trunks]
        ports = listed_names([first, *(other.partition("/")[2] for other in others)])
        names = index.vlan_list(spare_there)
        yield finding(
            VLAN_NOT_NEEDED_ON_TRUNK,
            at=device,
            path=trunks[0][1],
            says=f"{'trunks' if others else 'trunk'} {ports} {'carry' if others else 'carries'} {names}, which nobody "
            f"beyond {'them' if others else 'it'} needs",
            mend=f"take {names} off {ports}",
            edits=tuple(Edit(path, [index.vlan_key(vlan) for vlan in keep]) for _, path, keep in trunks),
        )


def _served(members: list[tuple[Node, Nic]]) -> bool:
    """Whether a VLAN has the gateway that its members call for."""
    routed = any(node.can_route for node, _ in members)
    return routed or not any(node.written.gateway for node, _ in members)


def _planned(index: NetworkIndex) -> set[Layer2Endpoint]:
    """Places where an access port waits for a host, or where a host belongs that is plugged in wrongly."""
    planned: set[Layer2Endpoint] = set()
    for name, attachments in index.once(port_settings).items():
        for attachment in attachments:
            if (
                attachment.switched
                and attachment.written.trunk is None
                and attachment.written.access
                and not attachment.written.off
            ):
                planned.add((name, attachment.written.access))
    for host, *_ in index.once(alike_hosts):
        node = index.knowledge.nodes[host.name]
        homes = [index.home_of(node, address) for address in host.addresses]
        planned |= {(host.at.device, home.nic.vlan) for home in homes if home is not None and home.nic.vlan is not None}
    return planned


def _next_to(index: NetworkIndex) -> Mapping[Layer2Endpoint, list[Layer2Endpoint]]:
    """The endpoints beside each, hosts included: of those that are alike two, who need each other."""
    knowledge = index.knowledge
    neighbours: dict[Layer2Endpoint, list[Layer2Endpoint]] = {}
    for name in knowledge.devices:
        for hop in index.once(_every_way).of(name):
            if hop.mutual:
                neighbours.setdefault(hop.endpoint, []).append(hop.target)
    for host, *others in index.once(alike_hosts):
        joined = host_endpoint(knowledge.devices, host.at)
        if joined is not None and knowledge.links[host.at].carrier:
            for name in (host.name, *(other.name for other in others[:1])):
                neighbours.setdefault((name, HOST_PORT), []).append(joined)
                neighbours.setdefault(joined, []).append((name, HOST_PORT))
    return neighbours


def _every_way(index: NetworkIndex) -> Topology:
    """The topology with the ways that the spanning tree keeps in reserve."""
    return unblocked(index.knowledge)


def _needed(index: NetworkIndex, planned: set[Layer2Endpoint]) -> set[Layer2Endpoint]:
    """The places in switches that lie between users: what is left once dead ends are taken away."""
    next_to = _next_to(index)
    degree = {endpoint: len(set(near)) for endpoint, near in next_to.items()}
    gone: set[Layer2Endpoint] = set()

    def ends_here(endpoint: Layer2Endpoint) -> bool:
        return degree[endpoint] <= 1 and isinstance(endpoint[1], int) and endpoint not in planned

    queue = [endpoint for endpoint in degree if ends_here(endpoint)]
    while queue:
        endpoint = queue.pop()
        if endpoint in gone:
            continue
        gone.add(endpoint)
        for other in next_to[endpoint]:
            if other not in gone:
                degree[other] -= 1
                if ends_here(other):
                    queue.append(other)
    return set(next_to) - gone


def _crosses(index: NetworkIndex, node: Node, attachment: Attachment, vlan: int, needed: set[Layer2Endpoint]) -> bool:
    """Whether a VLAN has users on both sides of an attachment."""
    here: Layer2Endpoint = (node.name, vlan)
    if here not in needed:
        return False
    joints = index.once(_every_way).over(here, attachment.name)
    return next((joint.target in needed for joint in joints if joint.mutual and joint.cable is not None), False)


VLAN_UNUSED = Kind(
    "vlan-unused",
    "note",
    "a VLAN of the catalogue that nothing uses",
    "nothing; it misleads whoever reads the plan",
    ALWAYS,
    example=Example("pier", "vlans: {mail: 250}"),
)


@rule
def unused_vlans(index: NetworkIndex) -> Iterator[Finding]:
    """A VLAN of the catalogue that nothing is set to."""
    used: set[int | None] = set()
    for node in index.knowledge.devices.values():
        for attachment in index.once(port_settings)[node.name]:
            written = attachment.written
            used |= {written.access, written.untagged if isinstance(written.untagged, int) else None}
            used |= set(written.trunk) if isinstance(written.trunk, tuple) else set()
        used |= {nic.vlan for nic in node.nics.values()}
    for name, vlan in index.network.vlans.items():
        if vlan not in used:
            edits = [Edit(("vlans", name), REMOVE)]
            for device in index.network.devices.values():
                if device.vlans is not None and vlan in device.vlans:
                    path: Path = ("devices", device.name, "vlans")
                    edits.append(Edit(path, [index.vlan_key(kept) for kept in device.vlans if kept != vlan]))
            yield finding(
                VLAN_UNUSED,
                at=name,
                path=("vlans", name),
                says=f"VLAN {name} ({vlan}) is declared, but nothing uses it",
                mend=f"remove {name} from the catalogue, or put ports in it",
                edits=tuple(edits),
            )
