"""A change applied to what is known gives what deriving anew gives, whatever was changed, in any order."""

from __future__ import annotations

from dataclasses import replace
from random import Random

import pytest

from archipelago import DocumentError, EditError, ModelError, amend, network_text
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.known import Knowledge, apply_change, know
from archipelago.model.network import Network
from archipelago.model.parts import Cable, End, Host
from archipelago.reachability.build import build_arrays, change_arrays
from archipelago.reachability.matrix import matrix
from makers import leasing, mistakes, scrambled, wild
from redundant import redundant


def changed(network: Network, random: Random) -> Network:
    """The network after one change of any kind, the parts that it leaves alone being the same objects or equal ones."""
    kind = random.choice(("mistake", "wild", "cable", "host", "device", "order", "vlan", "off"))
    names = list(network.devices)
    if kind in ("mistake", "wild") and all(
        host.addresses[:1] and host.addresses[0].version == 4 for host in network.hosts.values()
    ):
        options = [edits for _, edits, _ in mistakes(network, random)] if kind == "mistake" else []
        options += [(edit,) for edit in wild(network, random)] if kind == "wild" else []
        try:
            text = amend(network_text(network), random.choice(options)) if options else network_text(network)
            return network_from(parse(text.encode(), "changed"))
        except (DocumentError, EditError):
            return network
    if kind == "cable" and len(names) > 1:
        a, b = random.sample(names, 2)
        cables = list(network.cables)
        random.shuffle(cables)
        added = Cable(End(a, f"p{random.randint(300, 900)}"), End(b, f"p{random.randint(300, 900)}"))
        return replace(network, cables=(*cables[random.randint(0, 1) :], added))
    if kind == "host" and network.hosts:
        hosts = dict(network.hosts)
        gone = hosts.pop(random.choice(list(hosts)))
        at = End(random.choice([gone.at.device, *names]), f"p{random.randint(300, 900)}")
        hosts[f"new-{random.randint(0, 99)}"] = Host("", at, gone.addresses, gone.gateway)
        try:
            return replace(network, hosts={name: replace(host, name=name) for name, host in hosts.items()})
        except ModelError:  # an address is kept for who is gone
            return network
    if kind == "order" and len(names) > 1:
        a = random.choice(names)
        return replace(network, devices={a: network.devices[a], **network.devices})
    if kind == "vlan":
        return replace(network, vlans={**network.vlans, "mail": random.randint(900, 999)})
    device = network.devices[random.choice(names)]
    if kind == "off" and device.ports:
        port = random.choice(list(device.ports.values()))
        turned = replace(device, ports={**device.ports, port.name: replace(port, off=not port.off)})
    else:
        turned = replace(device, off=not device.off)
    return replace(network, devices={**network.devices, device.name: turned})


def everything(knowledge: Knowledge) -> tuple[object, ...]:
    nodes = dict(knowledge.nodes)
    ends = [End(device, port) for device, ports in knowledge.ports.items() for port in sorted(ports)]
    domains = [knowledge.domains.of((name, nic)) for name, node in nodes.items() for nic in node.nics]
    return (
        nodes,
        {name: knowledge.routes(name) for name in nodes},
        [knowledge.links[end] for end in ends],
        {name: sorted(map(str, knowledge.topology.of(name))) for name in knowledge.devices},
        [one and (sorted(map(str, one.endpoints)), one.circle is None, len(one.leaks)) for one in domains],
        knowledge.network,
        dict(knowledge.leases.given),
        {name: set(blocked) for name, blocked in knowledge.devices.tree.blocked.items()},
        [(member, knowledge.elected.active(member)) for member in knowledge.elected.every()],
    )


@pytest.mark.parametrize("seed", range(180))
def test_a_change_applied_equals_deriving_anew(seed):
    random = Random(seed)
    network = redundant(random) if seed >= 120 else scrambled(random, small=True, anything=True)
    if seed % 3 == 0:
        network = leasing(network, random)
    known = know(network)
    arrays = build_arrays(known)
    everything(known)  # so that there is something to keep
    for _ in range(4):
        network = changed(network, random)
        known = apply_change(known, network)
        arrays = change_arrays(arrays, network)
        fresh = know(network)
        assert everything(known) == everything(fresh)
        ours, theirs = matrix(arrays, causes=False), matrix(build_arrays(fresh), causes=False)
        assert list(ours.rows()) == list(theirs.rows())
