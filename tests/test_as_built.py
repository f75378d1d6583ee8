"""A network read from what the operating systems of its devices say of themselves."""

from __future__ import annotations

import json
from pathlib import Path
from random import Random

import pytest

import archipelago
from archipelago import read_as_built, read_network
from archipelago.errors import DocumentError, KernelError
from archipelago.exchange.kernel import _boot, _run, _workplace, kernel_here
from archipelago.exchange.linux import namespace, script
from archipelago.knowledge.index import index_network
from archipelago.model.network import Network
from makers import designed, mixed_brief, trunked_brief, with_sizes
from test_changing import MOVED, PIER

try:
    WHERE = kernel_here()
except KernelError:
    WHERE = None


def link(name: str, kind: str = "", up: bool = True, **more: object) -> dict[str, object]:
    info = {"info_kind": kind, **({"info_data": more.pop("data")} if "data" in more else {})} if kind else {}
    return {"ifname": name, "flags": ["UP"] if up else [], "linkinfo": info, **more}


def tell(folder: Path, links, addresses=None, routes=(), vlans=(), forwards=False, **texts: str) -> None:
    """Write what one device says."""
    folder.mkdir(parents=True)
    told = [
        {
            "ifname": name,
            "addr_info": [{"scope": "global", "local": text.split("/")[0], "prefixlen": int(text.split("/")[1])}],
        }
        for name, text in (addresses or {}).items()
    ]
    for name, value in {"link": links, "addr": told, "route": list(routes), "vlan": list(vlans)}.items():
        (folder / f"{name}.json").write_text(json.dumps(value))
    (folder / "forwarding.txt").write_text(f"net.ipv4.ip_forward = {int(forwards)}\n")
    for name, text in texts.items():
        (folder / f"{name}.txt").write_text(text)


def quay(root: Path) -> Path:
    untagged = ["PVID", "Egress Untagged"]
    tell(
        root / "mast",
        [
            link("br0", "bridge", data={"stp_state": 1, "priority": 4096}),
            link("p1", master="br0"),
            link("p2", up=False),
            link("b0", "bond", master="br0"),
            link("p8", master="b0"),
            link("p9", master="b0"),
            link("crew", "vlan", data={"id": 120}, link="br0"),
        ],
        {"crew": "10.44.2.1/24", "p2": "10.44.9.1/31"},
        [
            {"dst": "10.44.2.0/24", "dev": "crew", "protocol": "kernel"},
            {"dst": "10.44.8.0/24", "gateway": "10.44.2.7", "dev": "crew", "metric": 5},
            {"dst": "10.45.0.0/16", "dev": "crew"},
        ],
        [
            {"ifname": "p1", "vlans": [{"vlan": 120, "flags": untagged}]},
            {"ifname": "b0", "vlans": [{"vlan": 130, "vlanEnd": 132}]},
        ],
        forwards=True,
        neighbours="p1 mess eth0\n",
    )
    tell(
        root / "mess",
        [link("eth0")],
        {"eth0": "10.44.2.9/24"},
        [{"dst": "default", "gateway": "10.44.2.1", "dev": "eth0"}],
    )
    return root


def test_what_devices_say_becomes_a_network(command, tmp_path):
    found = read_as_built(quay(tmp_path / "built"))
    mast, mess = found.network.devices["mast"], found.network.hosts["mess"]
    assert (mast.kind, mast.routing, mast.bridge_priority) == ("l3switch", (4,), 4096)
    assert mast.ports["p1"].access == 120 and mast.ports["p2"].off
    assert str(mast.ports["p2"].addresses[0]) == "10.44.9.1/31"
    bond = mast.interfaces["b0"]
    assert bond.members == ("p8", "p9") and bond.trunk == (130, 131, 132) and bond.untagged == "none"
    assert mast.interfaces["crew"].vlan == 120 and [route.metric for route in mast.routes] == [5]
    assert str(mess.at) == "mast/p1" and str(mess.gateway[0]) == "10.44.2.1"
    assert any("10.45.0.0/16" in note for note in found.notes) and "filters" in found.notes[0]
    done = command("import", tmp_path / "built", "-o", tmp_path / "running.yaml")
    assert done.returncode == 0 and done.stdout.startswith("imported: 1 device, 1 host, 0 cables")
    assert read_network(tmp_path / "running.yaml") == found.network


def test_routers_tables_and_loopbacks_are_read(tmp_path):
    tell(
        tmp_path / "office",
        [
            link("p1"),
            link("p1.110", "vlan", data={"id": 110}, link="p1", master="red"),
            link("red", "vrf", data={"table": 1001}),
            link("d0", "dummy"),
        ],
        {"p1": "10.44.8.0/31", "p1.110": "10.44.1.1/24", "d0": "10.44.255.1/32", "lo": "10.44.255.2/32"},
        [
            {"dst": "10.44.7.0/24", "gateway": "10.44.1.9", "dev": "p1.110", "table": 1001, "metric": 3},
            {"dst": "default", "via": {"family": "inet6", "host": "fe80::1"}, "dev": "p1", "metric": 1024},
            {"dst": "2001:db8:44::/48", "gateway": "2001:db8:8::1", "dev": "p1", "metric": 1005},
            {"type": "unreachable", "dst": "default", "table": 1001},
        ],
        forwards=True,
    )
    office = read_as_built(tmp_path).network.devices["office"]
    assert office.kind == "router" and office.interfaces["p1.110"].vrf == "red"
    assert {name: str(office.interfaces[name].addresses[0]) for name in ("d0", "lo")} == {
        "d0": "10.44.255.1/32",
        "lo": "10.44.255.2/32",
    }
    assert [(str(route.destination), route.metric, route.vrf) for route in office.routes] == [
        ("10.44.7.0/24", 3, "red"),
        ("2001:db8:44::/48", 5, None),
    ]
    assert str(office.gateway[0]) == "fe80::1%p1"  # it does not forward IPv6, so its default is its own gateway


@pytest.mark.parametrize(
    ("file", "text", "said"),
    [
        ("mast/link.json", "{", "link.json:1:1: this is not JSON"),
        ("mast/link.json", "{}", "a list is expected"),
        ("mast/link.json", "[1]", "[0]: a mapping is expected, not 1"),
        (
            "mast/addr.json",
            '[{"ifname": "p1", "addr_info": [{"scope": "global", "local": "x", "prefixlen": 1}]}]',
            "no address",
        ),
        ("mast/route.json", '[{"dst": "x", "gateway": "10.0.0.1"}]', "not what the commands print"),
        ("mast/kind.txt", "toaster", "is no kind; there are: router"),
        ("cables.txt", "mast mess", "cables.txt:1:1: 'mast mess' is no cable"),
        ("mast/neighbours.txt", "p1", "own port, system name and its port are expected"),
        ("cables.txt", "mast/p1 ~ mess/eth0\nmast/p1 ~ other/p1", "mast/p1"),
    ],
)
def test_what_is_not_what_the_commands_print_is_said(file, text, said, command, tmp_path):
    quay(tmp_path / "built")
    (tmp_path / "built" / file).write_text(text)
    done = command("import", tmp_path / "built", "-o", tmp_path / "running.yaml")
    if file == "cables.txt" and "\n" in text:  # a cable to who has no folder is no cable of this network
        assert done.returncode == 0
        return
    assert done.returncode == 2 and said in done.stderr and not (tmp_path / "running.yaml").exists()


def test_a_file_that_is_missing_is_named(tmp_path):
    (quay(tmp_path / "built") / "mast" / "addr.json").unlink()
    with pytest.raises(DocumentError, match=r"addr\.json: there is no such file"):
        read_as_built(tmp_path / "built")


def as_told_by_the_kernel(networks: list[Network], root: Path) -> list[Path]:
    """Build networks in a kernel, and let every namespace say what the documentation asks for."""
    folders = []
    with _workplace(WHERE) as (work, keeper):
        driver = driver_of(networks, root, work, folders)
        _run(["sh", str(driver)] if WHERE == "here" else _boot(work, driver), work, keeper, 1, 300)
        assert (work / "done").exists(), (work / "console").read_text()[-500:]
    return folders


def driver_of(networks: list[Network], root: Path, work: Path, folders: list[Path]) -> Path:
    """The script that builds each network and writes what its namespaces say, each network's into a folder."""
    lines = ["export PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin:$PATH", f"cd {work}"]
    for number, network in enumerate(networks):
        tag = f"built-{number}-{work.name[-6:]}"
        (work / f"{number}.sh").write_text(script(network, tag))
        lines += [f"sh {number}.sh build; sleep 1.2; sh {number}.sh finish"]
        folders.append(root / str(number))
        for name in (*network.devices, *network.hosts):
            here, space = root / str(number) / name, namespace(tag, name)
            here.mkdir(parents=True)
            lines += [f"ip -n {space} -d -j link >{here}/link.json", f"ip -n {space} -j addr >{here}/addr.json"]
            lines += [f"ip -n {space} -j route show table all >{here}/route.json"]
            lines += [f"ip -n {space} -6 -j route show table all >{here}/route6.json"]
            lines += [f"bridge -n {space} -j vlan >{here}/vlan.json"]
            both = "net.ipv4.ip_forward net.ipv6.conf.all.forwarding"
            lines += [f"ip netns exec {space} sysctl {both} >{here}/forwarding.txt"]
            kind = network.devices[name].kind if name in network.devices else "host"
            (here / "kind.txt").write_text(kind)
        cables = [str(cable) for cable in network.cables if not cable.off]
        cables += [f"{host.name}/eth0 ~ {host.at}" for host in network.hosts.values()]
        (root / str(number) / "cables.txt").write_text("\n".join(cables))
        lines += [f"sh {number}.sh down"]
    driver = work / "driver.sh"
    driver.write_text("\n".join([*lines, "echo 1 >done"]) + "\n")
    return driver


@pytest.mark.long
@pytest.mark.skipif(WHERE is None, reason="no kernel to build networks in")
def test_what_a_kernel_says_of_a_network_is_that_network(tmp_path):
    briefs = [make(Random(seed), small=True) for seed in range(1) for make in (trunked_brief, mixed_brief)]
    networks = [read_network(PIER), read_network(MOVED), *map(designed, briefs)]
    networks.append(with_sizes(networks[-1], Random(3)))
    networks = [one for one in networks if not index_network(one).knowledge.devices.tree.blocked]
    assert len(networks) >= 3
    for network, folder in zip(networks, as_told_by_the_kernel(networks, tmp_path), strict=True):
        built = read_as_built(folder).network
        found = archipelago.compare(network, built, failures=False)
        told = (found.headline, [str(one) for one in found.differences])
        assert found.lost.pairs == found.gained.pairs == 0, told
        assert list(built.hosts) == sorted(network.hosts) and found.before == found.after, told


def mangled(value, random):
    """A JSON value with one thing in it otherwise."""
    odd = random.choice(
        [None, 5, -1, 10**30, "x", "", [], {}, [1], {"a": 1}, True, float("inf"), float("nan"), "x" * 9999]
    )
    if isinstance(value, list) and value and random.random() < 0.8:
        at = random.randrange(len(value))
        return [*value[:at], mangled(value[at], random), *value[at + 1 :]]
    if isinstance(value, dict) and value and random.random() < 0.85:
        key = random.choice(list(value))
        if random.random() < 0.15:
            return {name: one for name, one in value.items() if name != key}
        return {**value, key: mangled(value[key], random)}
    return odd


@pytest.mark.parametrize("seed", range(150))
def test_a_mangled_folder_is_refused_or_read(seed, tmp_path):
    random = Random(seed)
    quay(tmp_path / "built")
    path = random.choice(sorted((tmp_path / "built").glob("*/*.json")))
    path.write_text(json.dumps(mangled(json.loads(path.read_text()), random)))
    try:
        found = read_as_built(tmp_path / "built")
    except DocumentError as error:
        assert str(tmp_path) in str(error) and len(str(error)) < 600
    else:
        assert archipelago.read_network(archipelago.network_text(found.network)) == found.network


@pytest.mark.parametrize("name", ["kind.txt", "forwarding.txt", "neighbours.txt", "addr.json", "route6.json"])
def test_a_folder_where_a_file_is_expected_is_said(name, tmp_path):
    path = quay(tmp_path / "built") / "mast" / name
    path.unlink(missing_ok=True)
    path.mkdir()
    with pytest.raises(DocumentError, match="this is a directory, not a file"):
        read_as_built(tmp_path / "built")
