"""A real kernel as the referee: nobody here wrote it."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

import archipelago
from archipelago import amend, reach, read_network
from archipelago.exchange.kernel import KernelError, Question, ask_kernel, kernel_here
from archipelago.exchange.linux import script
from archipelago.exchange.rehearsal import leased
from archipelago.knowledge.index import index_network
from redundancy_referee import judged, judged_broken
from referee import referee

try:
    WHERE = kernel_here()
except KernelError as error:
    WHERE = None
    REASON = str(error)


def needs_kernel(test):
    """Only where there is a kernel, and only where there is time: each boots one for half a minute or more."""
    return pytest.mark.long(pytest.mark.skipif(WHERE is None, reason="" if WHERE else REASON)(test))


NETWORKS = 30
"""Random networks in the standing proof: a few are left out because they would storm or hold an address twice."""


@needs_kernel
def test_the_kernel_gives_the_same_answer_for_every_pair():
    boots = 2 if WHERE == "uml" else 1
    share = NETWORKS // boots
    with ThreadPoolExecutor(2) as pool:
        runs = list(pool.map(lambda number: referee(range(number * share, (number + 1) * share)), range(boots)))
    assert [difference for _, differences in runs for difference in differences] == []
    assert sum(figures["networks"] for figures, _ in runs) >= 24
    assert sum(figures["not reached"] for figures, _ in runs) > 14  # mistakes are among them


@needs_kernel
def test_named_routing_tables_stay_apart_in_the_kernel_too():
    from test_audit import SOUND, at, read

    red = [at(f"devices core interfaces {name} vrf", "red") for name in ("cameras-gw", "store-gw")]
    networks = [read(amend(SOUND, red)), read(SOUND)]
    asked = [
        [(a, b, network.hosts[b].addresses[0].address) for a in network.hosts for b in network.hosts if a != b]
        for network in networks
    ]
    answers = ask_kernel([Question(*each) for each in zip(networks, asked, strict=True)])
    apart, together = (answer.pairs for answer in answers)
    assert apart == {(a, b) for a, b, _ in asked[0] if reach(networks[0], a, b).reached}
    assert len(apart) == 18 and len(together) == 42


@needs_kernel
def test_rehearse_shows_both_answers(command, tern_bay):
    done = command("rehearse", tern_bay / "broken.yaml", "--from", "kiosk-a", "--from", "purser", "--json")
    found = json.loads(done.stdout)
    assert found["agree"] == found["pairs"] == 34 and found["differ"] == []
    assert 0 < found["reached"] < 34


@needs_kernel
def test_an_interrupted_rehearsal_leaves_nothing(tern_bay, tmp_path):
    before = set(Path("/run/netns").glob("*")) if Path("/run/netns").exists() else set()
    process = subprocess.Popen(
        [sys.executable, "-m", "archipelago.cli.main", "rehearse", str(tern_bay / "network.yaml")],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        env={**os.environ, "TMPDIR": str(tmp_path)},
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),  # who runs this may ignore it
    )
    wait_for(lambda: any(tmp_path.iterdir()))  # it has begun
    process.send_signal(signal.SIGINT)
    assert process.wait(timeout=30) == 130
    assert list(tmp_path.iterdir()) == []
    assert set(Path("/run/netns").glob("*")) - before == set() if Path("/run/netns").exists() else True
    running = subprocess.run(["ps", "-eo", "args"], capture_output=True, text=True, check=True).stdout
    assert str(tmp_path) not in running


def test_export_is_readable_shell(command, tern_bay, tmp_path):
    target = tmp_path / "bay.sh"
    done = command("export", tern_bay / "network.yaml", "--as", "linux", "-o", target)
    assert done.returncode == 0
    assert subprocess.run(["sh", "-n", target], check=False).returncode == 0
    assert subprocess.run(["sh", target], check=False, capture_output=True).returncode == 2  # says how it is called
    text = target.read_text()
    assert "# router landing" in text and "arp_ignore" in text
    assert re.findall(r"netns del \S+", text) == ['netns del $name";']  # only what it wrote down itself


def test_hostile_names_export_safely(tmp_path):
    """Names are checked when read; a title is free text, and every name is quoted all the same."""
    text = """\
format: archipelago-network/1
title: "$(touch broke); `touch broke` 'x' \\n touch broke\\r\\ntouch broke"
vlans: {v: 110}
devices:
  a.very-long.name_that-no-kernel-would-take-as-an-interface-name: {kind: switch, ports: {lo: {access: v}, default: {access: v}, bridge: {access: v}}}
hosts:
  every: {at: a.very-long.name_that-no-kernel-would-take-as-an-interface-name/lo, address: 10.44.0.2/24}
  h: {at: a.very-long.name_that-no-kernel-would-take-as-an-interface-name/default, address: 10.44.0.3/24}
"""  # noqa: E501
    (tmp_path / "odd.yaml").write_text(text)
    (tmp_path / "odd.sh").write_text(script(read_network(tmp_path / "odd.yaml")))
    subprocess.run(["sh", "odd.sh"], cwd=tmp_path, check=False, capture_output=True)
    subprocess.run(["sh", "-n", "odd.sh"], cwd=tmp_path, check=True)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["odd.sh", "odd.yaml"]


@pytest.mark.parametrize("name", ["-rf", "a b", "$(x)", "a;b", "a'b", "../x", "a/b", "é"])
def test_names_that_a_shell_would_mind_are_refused(command, tmp_path, name):
    file = tmp_path / "odd.yaml"
    file.write_text(f"format: archipelago-network/1\ndevices:\n  {json.dumps(name)}: {{kind: switch}}\n")
    done = command("export", file, "--as", "linux", "-o", tmp_path / "odd.sh")
    assert done.returncode == 2 and "is not a name" in done.stderr and not (tmp_path / "odd.sh").exists()


def test_without_a_kernel_it_says_what_to_install(tern_bay, tmp_path):
    import sys

    words = [sys.executable, "-m", "archipelago.cli.main", "rehearse", str(tern_bay / "network.yaml")]
    done = subprocess.run(words, capture_output=True, text=True, check=False, env={**os.environ, "PATH": str(tmp_path)})
    assert done.returncode == 2 and "install" in done.stderr and "Traceback" not in done.stderr


def test_a_network_that_would_storm_is_not_built(command, tmp_path):
    file = tmp_path / "ring.yaml"
    file.write_text(
        "format: archipelago-network/1\n"
        "devices: {a: {kind: switch, spanning-tree: off}, b: {kind: switch, spanning-tree: off}}\n"
        "hosts: {h: {at: a/p1, address: 10.44.0.2/24}, k: {at: b/p1, address: 10.44.0.3/24}}\n"
        "cables: [a/p8 ~ b/p8, a/p9 ~ b/p9]\n"
    )
    done = command("rehearse", file)
    assert done.returncode == 2 and "would storm" in done.stderr and "a/p8 ~ b/p8" in done.stderr


def test_hosts_that_do_not_exist_are_refused(command, tern_bay):
    done = command("rehearse", tern_bay / "network.yaml", "--from", "nobody")
    assert done.returncode == 2 and "nobody" in done.stderr


def test_the_script_is_the_same_for_the_same_network(tern_bay):
    network = read_network(tern_bay / "network.yaml")
    assert script(network) == script(read_network(tern_bay / "network.yaml"))
    assert script(network) != script(read_network(tern_bay / "broken.yaml"))
    for name in (*network.devices, *network.hosts):
        assert f"-{name}\n" in script(network)


def test_every_interface_has_a_name_of_its_own_in_the_script():
    text = """format: archipelago-network/1
devices:
  pier:
    kind: router
    ports:
      uplink-to-the-far-island: {address: 10.44.1.1/24, vrf: red}
      uplink-to-the-far-shore: {address: 10.44.2.1/24}
      x0: {address: 10.44.3.1/24}
      table-0: {address: 10.44.4.1/24}
      Lo: {address: 10.44.5.1/24}
hosts:
  a: {at: pier/uplink-to-the-far-island, address: 10.44.1.2/24}
  b: {at: pier/uplink-to-the-far-shore, address: 10.44.2.2/24}
  c: {at: pier/x0, address: 10.44.3.2/24}
  d: {at: pier/table-0, address: 10.44.4.2/24}
  e: {at: pier/Lo, address: 10.44.5.2/24}
"""
    written = script(read_network(text))
    made = re.findall(r"link add name (\S+) netns \S+-pier |type veth peer name (\S+) netns \S+-pier$", written, re.M)
    names = ["".join(pair) for pair in made] + re.findall(r"link add name (table-\d) type vrf", written)
    assert len(names) == 6 == len(set(names)) and all(len(name) <= 15 for name in names)
    assert "# uplink-to-the-far-island is called x1 here" in written and "# the table of vrf red is called" in written


@needs_kernel
@pytest.mark.parametrize("begun", ["archipelago-*", "archipelago-*/console"])
@pytest.mark.parametrize("ending", ["TERM", "HUP", "KILL"])
def test_nothing_is_left_of_a_rehearsal_whatever_ends_it(ending, begun, tern_bay, tmp_path):
    words = [sys.executable, "-m", "archipelago", "rehearse", str(tern_bay / "network.yaml")]
    running = subprocess.Popen(words, stdout=subprocess.DEVNULL, env={**os.environ, "TMPDIR": str(tmp_path)})
    wait_for(lambda: list(tmp_path.glob(begun)))
    running.send_signal(signal.Signals[f"SIG{ending}"])
    assert running.wait(20) == {"TERM": 143, "HUP": 129, "KILL": -9}[ending]
    wait_for(lambda: not list(tmp_path.iterdir()))
    wait_for(lambda: str(tmp_path) not in subprocess.run(["ps", "-eo", "args"], capture_output=True, text=True).stdout)


def wait_for(happened):
    for _ in range(3000):
        if happened():
            return
        time.sleep(0.1)
    raise AssertionError("it did not happen within five minutes")


@needs_kernel
def test_the_kernel_gives_the_same_answer_where_filters_are():
    boots = 2 if WHERE == "uml" else 1
    with ThreadPoolExecutor(2) as pool:
        runs = list(
            pool.map(lambda number: referee(range(500 + 10 * number, 510 + 10 * number), filters=True), range(boots))
        )
    assert [difference for _, differences in runs for difference in differences] == []
    assert sum(figures["reached"] for figures, _ in runs) > 15


@needs_kernel
def test_the_kernel_gives_the_same_answer_to_packets_of_every_size():
    figures, differences = referee(range(120, 135), sizes=True)
    assert differences == [] and figures["reached"] > 5


@needs_kernel
@pytest.mark.skipif(not all(map(shutil.which, ("dnsmasq", "udhcpc"))), reason="needs a DHCP server and a client")
def test_real_servers_lease_what_we_say(command, tmp_path):
    from test_leases import MISTAKES, SOUND

    done = {"sound": SOUND}
    done |= {kind: SOUND.replace(old, new) for kind, _, old, new in MISTAKES[::6] if kind != "server-stranger"}
    networks = {name: archipelago.read_network(text) for name, text in done.items()}
    answers = ask_kernel([Question(network, []) for network in networks.values()])
    for (name, network), theirs in zip(networks.items(), answers, strict=True):
        index = index_network(network)
        ours = {host: leased(index, host) for host in index.knowledge.leases.given}
        assert {host: given for host, given in ours.items() if given} == theirs.leases, name
    (file := tmp_path / "bay.yaml").write_text(SOUND)
    shown = command("rehearse", file, "--from", "crane")
    assert shown.returncode == 0 and "6 of 6 leases agree" in shown.stdout


@needs_kernel
@pytest.mark.skipif(shutil.which("keepalived") is None, reason="the package keepalived is not there")
def test_real_bridges_and_daemons_agree_on_what_is_blocked_and_who_is_active(command, tern_bay):
    figures, different = judged(0, 5, shared=2)
    assert different == [] and figures["blocked"] > 5 and figures["told"] > 15
    shown = command("rehearse", tern_bay / "network.yaml", "--from", "innkeeper", "--to", "purser")
    assert (
        shown.returncode == 0
        and shown.stdout.startswith("1 of 1 pair agree")
        and "12 of 12 roots, blocked ports and active gateways agree" in shown.stdout
    )


PAIR = """format: archipelago-network/1
vlans: {crew: 120, yard: 130}
devices:
  core-1:
    kind: l3switch
    routing: [ipv4]
    ports: {p1: {trunk: [crew, yard]}}
    interfaces:
      crew-gw: {vlan: crew, address: 10.44.1.2/24, virtual: [{vrid: 1, address: 10.44.1.1, priority: 120}]}
      yard-gw: {vlan: yard, address: 10.44.2.2/24, virtual: [{vrid: 2, address: 10.44.2.1, priority: 120}]}
  core-2:
    kind: l3switch
    routing: [ipv4]
    ports: {p1: {trunk: [crew, yard]}}
    interfaces:
      crew-gw: {vlan: crew, address: 10.44.1.3/24, virtual: [{vrid: 1, address: 10.44.1.1}]}
      yard-gw: {vlan: yard, address: 10.44.2.3/24, virtual: [{vrid: 2, address: 10.44.2.1}]}
  quay:
    kind: switch
    ports: {p1: {trunk: [crew, yard]}, p2: {trunk: [crew, yard]}, p3: {access: crew}, p4: {access: yard}}
hosts:
  winch: {at: quay/p3, address: 10.44.1.10/24, gateway: 10.44.1.1}
  stores: {at: quay/p4, address: 10.44.2.10/24, gateway: 10.44.2.1}
cables: [core-1/p1 ~ quay/p1, core-2/p1 ~ quay/p2]
"""


@needs_kernel
@pytest.mark.skipif(shutil.which("keepalived") is None, reason="the package keepalived is not there")
def test_what_breaks_in_the_kernel_is_taken_over_as_we_say(command, tmp_path):
    figures, different = judged_broken(1003, 3)
    # How exactly losses agree hangs on how busy this machine is; the referee asks that of a quiet one. On a busy
    # machine a daemon may also still wait where it should have taken over: what is wrong is wrong twice.
    wrong = {(seed, what) for seed, what, _, _ in different if not what.endswith(": lost")}
    wrong = wrong and wrong & {(seed, what) for seed, what, _, _ in judged_broken(1003, 3)[1]}
    assert wrong == set() and figures["networks"] >= 1 and figures["reached"] > 3
    (file := tmp_path / "pair.yaml").write_text(PAIR)
    done = command("rehearse", file, "--break", "core-1", "--from", "winch", "--to", "stores", "--json")
    found = json.loads(done.stdout)
    assert found["agree"] == found["pairs"] == found["reached"] == 2
    broken = found["broken"]
    assert broken["part"] == "core-1" and broken["lost"] > 25 and 20 < broken["lost_in_kernel"] < 45
    assert [row["kernel"] for row in found["redundancy"]] == ["core-2/crew-gw", "core-2/yard-gw"]


def test_only_parts_break(command, tmp_path):
    (file := tmp_path / "pair.yaml").write_text(PAIR)
    assert "crew is a VLAN" in command("rehearse", file, "--break", "crew").stderr
    refused = command("rehearse", file, "--break", "core-3")
    assert refused.returncode == 2 and "there is no part 'core-3'; did you mean 'core-" in refused.stderr
