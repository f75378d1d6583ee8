"""The verb `demo tour`: all the steps with the files of Tern Bay, each with its command."""

from __future__ import annotations

from pathlib import Path

import archipelago
from archipelago.cli import out
from archipelago.cli.demo import TernBay, write
from archipelago.model.network import Network
from archipelago.views import answer, carving, policy, traffic
from archipelago.views.table import chosen, table


def tour(directory: Path, *, force: bool = False) -> None:
    """Write the files of the demo and go through the steps, each with the command that gives what it shows.

    Raises:
        QueryError: files of the demo were changed there since, and need not be kept (`force`).
    """
    bay = write(directory, force=force)
    network_path, network = bay.path("network.yaml"), bay.network
    _carve_and_design(bay)

    _step(3, "Audit: is anything wrong or risky?", f"archipelago audit {network_path}")
    out.say(archipelago.audit(network).headline)

    _step(
        4,
        "Reach within a VLAN: switches carry it, no gateway is asked",
        f"archipelago reach {network_path} kiosk-a counter",
    )
    _ask(network, "kiosk-a", "counter")
    _step(
        5,
        "Reach across VLANs: over the trunk to the router and back down it",
        f"archipelago reach {network_path} kiosk-a mess",
    )
    _ask(network, "kiosk-a", "mess")

    _step(6, "Reach an island: over a routed link, out and back", f"archipelago reach {network_path} purser lamp")
    _ask(network, "purser", "lamp")

    _step(7, "Policy: who may begin what, and is it kept?", f"archipelago matrix {network_path} --policy")
    kept = archipelago.check_policy(network)
    out.say(kept.headline)
    out.say_tables([policy.differences(kept)])
    _step(8, "Leases: who gives guests and the inn their addresses", f"archipelago view {network_path} --leases")
    given = archipelago.view(network, leases=True)
    out.say(given.headline)
    out.say_tables(given.tables())

    _two_of_everything(network, network_path)
    _break_and_mend(bay)

    _carry(network, network_path)

    drawing = bay.path("network.svg")
    _step(14, "Draw: the diagram", f"archipelago draw {network_path} -o {drawing}")
    out.say(f"drawn: {drawing}")
    out.say()
    out.say(f"Everything is in {bay.directory}. Change a line of {network_path} and ask again.")


def _carve_and_design(bay: TernBay) -> None:
    """Steps 1 and 2: the subnets, and everything that is decided and written down."""
    made, network_path = bay.design, bay.path("network.yaml")
    command = f"archipelago design {bay.path('brief.yaml')} -o {network_path}"
    _step(1, "Carve: a subnet for each VLAN, with room to grow", command)
    out.say(made.carving.headline)
    wanted = ("name", "VLAN", "subnet", "gateway", "usable", "needed", "spare", "IPv6 subnet", "IPv6 gateway")
    out.say_tables([chosen(carving.subnets(made.carving), wanted)])
    out.say()
    out.say_lines(carving.picture(made.carving))

    _step(2, "Design: gateways, trunks, ports and addresses, all decided and written down", f"see {network_path}")
    decided = [decision for decision in made.decisions if "/" in decision.subject]
    out.say_tables(
        [
            table(
                "",
                ("about", "decided", "because"),
                [(d.subject, d.decided, d.why) for d in decided],
                least=("because",),
            )
        ]
    )


def _two_of_everything(network: Network, network_path: Path) -> None:
    """Step 9: what waits, who is active, and whether anybody misses the one that is."""
    command = f"archipelago view {network_path} --redundancy"
    _step(9, "Two of everything: which link waits, and who answers for the gateways", command)
    twice = archipelago.view(network, redundancy=True)
    out.say(twice.headline)
    out.say_tables([one for one in twice.tables() if one.title in ("blocked ports", "virtual routers")])
    out.say()
    whole, without = archipelago.matrix(network), archipelago.matrix(network, without=["holm"])
    missing = whole.reached - without.reached
    misses = f"{missing:,} pairs miss it" if missing else "nobody misses it"
    out.say(f"with holm off {without.reached:,} pairs are reached, with it on {whole.reached:,}: {misses}")


def _carry(network: Network, network_path: Path) -> None:
    """Step 13: what links carry."""
    command = f"archipelago traffic {network_path}"
    _step(13, "Traffic: what every link carries, and which fills first", command)
    load = archipelago.traffic(network)
    out.say(load.headline)
    out.say_lines(traffic.lines(load))
    out.say_tables([traffic.links(load)])
    out.say()
    out.say("whether the gateways are in the right place, a dozen designs side by side:")
    out.say(f"   archipelago weigh {network_path.parent / 'brief.yaml'} --suppose hall")


def _break_and_mend(bay: TernBay) -> None:
    """Steps 10 to 12: the network with mistakes in it, why packets stop, and the mends."""
    broken_path = bay.path("broken.yaml")
    _step(10, "The same network with nine mistakes", f"archipelago audit {broken_path}")
    out.answer(archipelago.audit(bay.broken))

    _step(
        11, "Ask why: where did the packet stop, and what mends it?", f"archipelago reach {broken_path} kiosk-a barrier"
    )
    for source, target in (
        ("kiosk-a", "recorder"),
        ("purser", "camera-s"),
        ("mess", "purser"),
        ("bosun", "barrier"),
        ("purser", "lamp"),
        ("innkeeper", "purser"),
        ("holm-gate", "skerry-gate"),
    ):
        _ask(bay.broken, source, target, steps=False)

    mended_path = bay.path("mended.yaml")
    _step(12, "Mend: apply the changes and look again", f"archipelago mend {broken_path} -o {mended_path}")
    mended = archipelago.read_network(mended_path)
    out.say(archipelago.audit(mended).headline)
    _ask(mended, "kiosk-a", "barrier", steps=False)


def _step(number: int, title: str, command: str) -> None:
    out.say()
    out.head(f"{number}. {title}")
    out.say(f"   {command}")
    out.say()


def _ask(network: Network, source: str, target: str, steps: bool = True) -> None:
    found = archipelago.reach(network, source, target)
    parts = answer.body(found)
    out.answer(found, body=parts if steps or "" not in parts else parts[: parts.index("")])
    if not steps:
        out.say()
