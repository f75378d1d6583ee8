"""Two states of a network: what is otherwise, and the steps from one to the other."""

from __future__ import annotations

import json
from collections import Counter
from dataclasses import replace
from random import Random

import pytest

import archipelago
from archipelago import read_network
from archipelago.changes.differences import differences
from archipelago.changes.entering import entered
from archipelago.changes.replacement import replaced
from archipelago.errors import ModelError, QueryError
from archipelago.model.network import Network, with_changes
from archipelago.model.parts import End
from changing_referee import anew, better_orders, wrong_claims
from counts_referee import judged
from every_field import changes, full_of_everything
from redundant import redundant


def changed(network: Network, random: Random, count: int) -> Network:
    """A network with some settings otherwise, as somebody may want them."""
    for _ in range(40 * count):
        if count == 0:
            break
        made = _once(network, random)
        if made is not None and made != network:
            try:
                network = anew(made)
            except ModelError:
                continue
            count -= 1
    return network


def _once(network: Network, random: Random) -> Network | None:
    name = random.choice(list(network.devices))
    device = network.devices[name]
    kind = random.choice(("port", "interface", "route", "host", "cable", "gone"))
    if kind == "port" and device.ports:
        port = random.choice(list(device.ports.values()))
        trunk = tuple(random.sample(list(network.vlans.values()), random.randint(1, len(network.vlans))))
        other = replace(port, trunk=trunk) if port.trunk else replace(port, off=not port.off)
        device = replace(device, ports={**device.ports, port.name: other})
    elif kind in ("interface", "gone") and device.interfaces:
        interface = random.choice(list(device.interfaces.values()))
        others = {key: value for key, value in device.interfaces.items() if key != interface.name}
        if kind == "interface":
            others[interface.name] = replace(interface, off=not interface.off)
        device = replace(device, interfaces=others)
    elif kind == "route" and device.routes:
        routes = random.sample(device.routes, random.randint(0, len(device.routes)))
        device = replace(device, routes=tuple(routes))
    elif kind == "host" and network.hosts:
        host = random.choice(list(network.hosts.values()))
        at = End(random.choice(list(network.devices)), f"p{random.randint(20, 29)}")
        return with_changes(network, hosts={**network.hosts, host.name: replace(host, at=at)})
    elif kind == "cable" and network.cables:
        cables = list(network.cables)
        place = random.randrange(len(cables))
        cables[place] = replace(cables[place], off=not cables[place].off)
        return with_changes(network, cables=tuple(cables))
    else:
        return None
    return with_changes(network, devices={**network.devices, name: device})


def pairs_of(seed: int) -> tuple[Network, Network]:
    random = Random(seed)
    old = redundant(random)
    return old, changed(old, random, random.randint(2, 5))


def fresh(network: Network) -> int:
    """How many pairs a matrix counts, derived anew."""
    return archipelago.matrix(anew(network)).reached


@pytest.mark.parametrize("seed", range(16))
def test_every_claim_of_every_step_is_a_fresh_answer(seed):
    old, new = pairs_of(seed)
    assert list(wrong_claims(archipelago.change(old, new, next(iter(old.hosts))))) == []


@pytest.mark.parametrize("seed", range(100, 110))
def test_no_order_of_few_steps_is_better(seed):
    old, new = pairs_of(seed)
    assert list(better_orders(old, new, next(iter(old.hosts)))) == []


@pytest.mark.parametrize("seed", range(200, 230))
def test_differences_make_the_one_of_the_other_and_back(seed):
    random = Random(seed)
    old = redundant(random)
    new = redundant(random) if seed % 2 else changed(old, random, 6)
    found = differences(old, new)
    network = old
    for one in found:
        network = replaced(network, one.replacements)
    assert network == new
    for one in reversed(found):
        network = replaced(network, [part.undone for part in reversed(one.replacements)])
    assert network == old


PIER = """\
format: archipelago-network/1
vlans: {tickets: 110, crew: 120}
devices:
  office:
    kind: router
    ports: {p1: {}, p2: {address: 10.44.9.1/24}}
    interfaces:
      p1.110: {parent: p1, tag: tickets, address: 10.44.1.1/24}
      p1.120: {parent: p1, tag: crew, address: 10.44.2.1/24}
  mast:
    kind: l3switch
    routing: []
    ports: {p1: {access: tickets}, p2: {access: crew}, p24: {trunk: [tickets, crew]}}
    interfaces: {manage: {vlan: crew, address: 10.44.2.9/24}}
    gateway: 10.44.2.1
hosts:
  window: {at: mast/p1, address: 10.44.1.2/24, gateway: 10.44.1.1}
  mess: {at: mast/p2, address: 10.44.2.2/24, gateway: 10.44.2.1}
  agent: {at: office/p2, address: 10.44.9.2/24, gateway: 10.44.9.1}
cables: [office/p1 ~ mast/p24]
"""


def test_the_management_vlan_goes_last_off_the_trunk_one_came_in_by():
    """From behind the trunk a person changes the switch first: off the trunk goes what they came in by only then."""
    old = read_network(PIER)
    new = read_network(
        PIER.replace("trunk: [tickets, crew]}}", "trunk: [tickets]}}").replace(
            "{access: tickets}", "{access: tickets, edge: yes}"
        )
    )
    change = archipelago.change(old, new, "agent")
    assert [step.what for step in change] == ["port p1: edge", "take crew off port p24"]
    assert change.locked_out == ()
    assert change.steps[1].cut.pairs == 0  # who is lost for good is the new plan's affair, not the order's


def test_a_list_of_a_trunk_grows_before_it_shrinks():
    old = read_network(PIER.replace("trunk: [tickets, crew]}}", "trunk: [tickets]}}"))
    new = read_network(PIER.replace("trunk: [tickets, crew]}}", "trunk: [crew]}}"))
    assert [step.what for step in archipelago.change(old, new, "mess")] == [
        "carry crew on port p24",
        "take tickets off port p24",
    ]


MOVED = (
    PIER.replace("ports: {p1: {}, p2", "ports: {p1: {address: 10.44.8.0/31}, p2")
    .replace("      p1.110: {parent: p1, tag: tickets, address: 10.44.1.1/24}\n", "")
    .replace("      p1.120: {parent: p1, tag: crew, address: 10.44.2.1/24}\n", "")
    .replace("    interfaces:\n  mast", "    routes: [{destination: 10.44.0.0/21, next-hop: 10.44.8.1}]\n  mast")
    .replace("routing: []", "routing: [ipv4]")
    .replace("p24: {trunk: [tickets, crew]}", "p24: {address: 10.44.8.1/31}")
    .replace(
        "interfaces: {manage: {vlan: crew, address: 10.44.2.9/24}}\n    gateway: 10.44.2.1",
        "routes: [{destination: 0.0.0.0/0, next-hop: 10.44.8.0}]\n"
        "    interfaces:\n"
        "      tickets-gw: {vlan: tickets, address: 10.44.1.1/24}\n"
        "      crew-gw: {vlan: crew, address: 10.44.2.1/24}",
    )
)


def test_gateways_that_move_to_a_switch_are_told_as_such_and_what_would_avoid_a_lock_out():
    old, new = read_network(PIER), read_network(MOVED)
    found = archipelago.compare(old, new)
    assert [str(event) for event in found.events] == [
        "gateway of tickets moved from office to mast",
        "gateway of crew moved from office to mast",
    ]
    assert found.lost.pairs == found.gained.pairs == 0 and not found.loses
    change = archipelago.change(old, new, "agent")
    assert change.at(len(change)) == new and change.locked_out == ()
    done = [step.what for step in change]
    # Once the switch forwards, its own gateway counts no more, and what it was managed by goes only after that.
    assert done.index("routing ipv4") < done.index("no gateway") and change.windows and change.point_of_no_return


def test_where_no_order_avoids_a_lock_out_it_says_what_would():
    old, new = read_network(PIER), read_network(MOVED)
    change = archipelago.change(old, new, "mess")
    assert change.locked_out and change.no_order and change.would_help == ("the console of mast",)
    assert [step.timed for step in change].count(True) == 1
    easier = archipelago.change(with_console(old), with_console(new), "mess")
    assert easier.locked_out == () and "mess is never locked out" in easier.headline


def with_console(network: Network) -> Network:
    devices = {**network.devices, "mast": replace(network.devices["mast"], console=True)}
    return with_changes(network, devices=devices)


LEASES = PIER.replace(
    "    interfaces:\n      p1.110",
    "    dhcp-pools:\n      tickets: {subnet: 10.44.1.0/24, range: 10.44.1.50-10.44.1.90, gateway: 10.44.1.1}\n"
    "    interfaces:\n      p1.110",
).replace("address: 10.44.1.2/24, gateway: 10.44.1.1", "address: dhcp")


def test_hosts_keep_what_they_are_leased_until_they_ask_again():
    old = read_network(LEASES)
    new = read_network(LEASES.replace("10.44.1.1", "10.44.1.254").replace("10.44.1.2540", "10.44.1.10"))
    change = archipelago.change(old, new, "agent")
    asks = next(step for step in change if "ask for it again" in step.what)
    assert "half of the lease time (6h)" in asks.what and asks.at == "hosts in tickets (110)"
    pool = next(step for step in change if step.what.startswith("pool"))
    assert pool.number < asks.number
    for step in change:
        assert fresh(change.at(step.number)) == step.reached
    assert change.at(len(change)) == new
    held = change.at(asks.number - 1).hosts["window"]
    assert not held.dhcp and str(held.gateway[0]) == "10.44.1.1"  # written down, as it is not what a server would say


def test_what_is_called_otherwise_is_recognised():
    old = read_network(PIER)
    new = read_network(PIER.replace("mast", "spar").replace("crew", "staff").replace("window", "counter"))
    found = archipelago.compare(old, new, failures=False)
    assert found.differences == ()
    assert {str(event) for event in found.events} == {
        "VLAN crew is called staff now",
        "device mast is called spar now",
        "host window is called counter now",
    }
    assert not found.loses


def test_what_is_lost_is_said_and_makes_the_exit_code(command, tmp_path):
    (tmp_path / "old.yaml").write_text(PIER + "expect: [{from: window, to: agent, reached: yes}]\n")
    broken = PIER.replace("gateway: 10.44.1.1}", "}") + "expect: [{from: window, to: agent, reached: yes}]\n"
    (tmp_path / "new.yaml").write_text(broken)
    done = command("compare", tmp_path / "old.yaml", tmp_path / "new.yaml", "--json", "-o", tmp_path / "both.svg")
    told = json.loads(done.stdout)
    assert done.returncode == 1 and told["lost"]["pairs"] == 4 and told["promises_lost"] == ["window must reach agent"]
    assert "CHANGED" in (tmp_path / "both.svg").read_text()
    text = command("compare", tmp_path / "old.yaml", tmp_path / "new.yaml", "--quick")
    assert text.stdout.startswith("1 difference; 4 pairs lost") and "no gateway" in text.stdout
    same = command("compare", tmp_path / "old.yaml", tmp_path / "old.yaml")
    assert same.returncode == 0 and same.stdout == "nothing is otherwise\n"


@pytest.mark.long
def test_the_steps_are_worked_through_from_the_shell(command, tmp_path):
    old, new, at = (tmp_path / name for name in ("old.yaml", "new.yaml", "at.yaml"))
    old.write_text(PIER)
    new.write_text(MOVED)
    done = command("change", old, new, "--from", "mess", "--window", "--pace", "3")
    assert done.returncode == 1 and "LOCKS YOU OUT of mast" in done.stdout and "to back out" in done.stdout
    assert "with the console of mast, there is an order that locks nobody out" in done.stdout
    told = json.loads(command("change", old, new, "--from", "agent", "--json").stdout)
    number = told["steps"][3]["number"]
    assert command("change", old, new, "--from", "agent", "--at", number, "-o", at).returncode == 0
    assert fresh(read_network(at)) == told["steps"][3]["reached"]
    entered = command("change", old, new, "--from", "agent", "--enter", "--device", "mast").stdout
    assert "step 1 of" in entered or "at mast: " in entered
    assert "[ ] forwarding of IPv4: on" in entered and "[ ] make it permanent" in entered and "office" not in entered


def test_what_to_enter_from_empty_devices(command, tmp_path):
    new = tmp_path / "new.yaml"
    new.write_text(MOVED)
    first = command("change", new).stdout
    assert first.startswith("from empty devices: ") and len(first.splitlines()) <= 24
    everything = command("change", new, "--all").stdout
    for line in (
        "[ ] create VLAN 120 (crew)",
        "[ ] VLAN interface crew-gw: for VLAN 120 (crew); address 10.44.2.1/24 (mask 255.255.255.0)",
        "[ ] forwarding of IPv4: on",
        "[ ] make it permanent: save the settings, so that they outlast a restart",
        "[ ] mess: plug it into mast/p2; address 10.44.2.2/24 (mask 255.255.255.0); gateway 10.44.2.1",
        "[ ] plug in office/p1 ~ mast/p24",
    ):
        assert line in everything.splitlines(), line
    lines = command("change", new, "--device", "mast", "--markdown").stdout.splitlines()
    assert lines[2].startswith("## mast: ") and lines[4] == "- [ ] create VLAN 110 (tickets)"
    order = [next(at for at, line in enumerate(lines) if word in line) for word in ("create VLAN", "VLAN interface")]
    assert order == sorted(order)
    assert command("change", new, "--device", "nobody").returncode == 2


@pytest.mark.parametrize("seed", range(20))
def test_whatever_differs_is_told_to_be_entered(seed):
    """Every field of every part of a device or host that differs changes what is to be entered."""
    random = Random(78_000 + seed)
    network = full_of_everything(random)
    for change in changes(network, random, Counter(), 120):
        parts = [
            (
                {name: as_it_forwards(device) for name, device in state.devices.items()},
                state.hosts,
                state.vlans,
                set(map(str, state.cables)),
            )
            for state in (network, change.network)
        ]
        if parts[0] != parts[1] and change.field[1] not in ("console", "kind"):
            assert any(entered(network, change.network)), change.field


def as_it_forwards(device):
    """A device with the families that it forwards written once, whether it says them or not, and each route once."""
    families = device.routing if device.routing is not None else (4, 6) if device.kind == "router" else ()
    return replace(device, routing=tuple(sorted(set(families))), routes=tuple(dict.fromkeys(device.routes)))


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--from", "nobody"], "in the old network 'nobody' is nothing in this network"),
        ([], "--from is missing"),
        (["--from", "agent", "--at", "1"], "--at goes with --output"),
        (["--from", "agent", "--at", "99", "-o", "x.yaml"], "there is no step 99"),
        (["--from", "agent", "--at", "-1", "-o", "x.yaml"], "is not the number of a step"),
    ],
)
def test_what_cannot_be_asked_is_said(words, said, command, tmp_path):
    (tmp_path / "old.yaml").write_text(PIER)
    (tmp_path / "new.yaml").write_text(MOVED)
    done = command("change", tmp_path / "old.yaml", tmp_path / "new.yaml", *words, cwd=tmp_path)
    assert done.returncode == 2 and said in done.stderr and not (tmp_path / "x.yaml").exists()


def test_a_step_that_does_not_fit_is_refused():
    old, new = read_network(PIER), read_network(MOVED)
    step = archipelago.change(old, new, "agent").steps[0]
    with pytest.raises(QueryError, match="does not fit"):
        archipelago.apply(archipelago.apply(old, step), step)


def test_both_states_are_drawn_in_one_picture_and_nothing_leaves_it(tmp_path):
    import re

    old = read_network(PIER)
    new = read_network(
        PIER.replace("mess: {at: mast/p2", "mess: {at: mast/p3").replace("p2: {access: crew}", "p3: {access: crew}")
        + "title: after\n"
    )
    devices = dict(new.devices)
    devices["skiff"] = replace(devices["mast"], name="skiff", ports={}, interfaces={}, gateway=())
    found = archipelago.compare(old, with_changes(new, devices=devices), failures=False)
    archipelago.draw(found, tmp_path / "both.svg")
    drawn = (tmp_path / "both.svg").read_text()
    assert re.search("layer 3 switch.*: NEW<", drawn) and re.search("layer 3 switch.*: CHANGED<", drawn)
    assert "as before: " in drawn and "host mess moved from mast/p2 to mast/p3" in drawn
    width = float(re.search(r'viewBox="0 0 ([\d.]+)', drawn)[1])
    assert all(0 <= float(x) <= width for x in re.findall(r'<text[^>]* x="([\d.-]+)"', drawn))
    back = archipelago.compare(found.new, old, failures=False)
    archipelago.draw(back, tmp_path / "back.svg")
    assert re.search("layer 3 switch.*: GONE<", (tmp_path / "back.svg").read_text())


def test_windows_are_told_with_their_time():
    from archipelago.views import change as view

    change = archipelago.change(read_network(PIER), read_network(MOVED), "agent")
    (window,) = change.windows
    table = view.windows(change, 3)
    assert table.rows[0][0] == f"{window.first} to {window.last}"
    assert table.rows[0][3] == f"{3 * window.steps} min" and table.rows[0][4] == f"{3 * (window.steps - 1)} min"
    lines = [line for line, _ in view.listed(change, 3)]
    assert sum(line.startswith("[ ] ") for line in lines) == len(change)
    assert lines.index("end of the window") > next(n for n, line in enumerate(lines) if line.startswith("window: "))
    assert all("undo:  " in line or not line.startswith("       undo") for line in lines)


@pytest.mark.parametrize("seed", [*range(500, 514), 9100173, 9100463])
def test_comparisons_and_steps_count_what_fresh_matrices_do(seed):
    assert list(judged(seed, Counter())) == []


TWO_SERVERS = """format: archipelago-network/1
vlans: {crew: 120}
devices:
  quay: {kind: switch, ports: {p1: {access: crew}, p2: {access: crew}, p3: {access: crew}}}
  holm:
    kind: router
    ports: {p1: {address: 10.44.1.1/24}}
    dhcp-pools: {crew: {subnet: 10.44.1.0/24, range: 10.44.1.10-10.44.1.19, gateway: 10.44.1.1}}
  inn:
    kind: router
    ports: {p1: {address: 10.44.1.2/24}}
    dhcp-pools: {crew: {subnet: 10.44.1.0/24, range: 10.44.1.20-10.44.1.29, gateway: 10.44.1.2}}
hosts: {mess: {at: quay/p1, address: dhcp}}
cables: [quay/p2 ~ holm/p1, quay/p3 ~ inn/p1]
"""


def test_devices_in_another_order_are_no_change_although_leases_go_by_it():
    start, end, rest = (TWO_SERVERS.index(text) for text in ("  holm:", "  inn:", "hosts:"))
    other = TWO_SERVERS[:start] + TWO_SERVERS[end:rest] + TWO_SERVERS[start:end] + TWO_SERVERS[rest:]
    old, new = read_network(TWO_SERVERS), read_network(other)
    assert [archipelago.leases(one)["mess"]["server"] for one in (old, new)] == ["holm", "inn"]
    assert len(archipelago.change(old, new, "mess")) == 0
