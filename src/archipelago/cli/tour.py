"""The verb `demo`: the files of Tern Bay, and a tour through all the steps with them."""

from __future__ import annotations

from hashlib import sha256
from importlib.resources import files
from pathlib import Path

import archipelago
from archipelago.addressing.values import Address
from archipelago.cli import out
from archipelago.errors import QueryError
from archipelago.files.disk import make_directory, write_whole
from archipelago.model.finding import REMOVE, Edit
from archipelago.model.network import Network
from archipelago.views import answer, carving, policy, traffic
from archipelago.views.table import chosen, table


def mistakes(network: Network) -> list[tuple[str, list[Edit]]]:
    """Nine mistakes that people really make, as edits of the designed network."""
    return [*mistakes_on_the_way(network), *mistakes_of_others(network), *mistakes_of_two(network)]


def mistakes_on_the_way(network: Network) -> list[tuple[str, list[Edit]]]:
    """Six where packets pass; the last is in IPv6 only."""
    skerry = network.devices["skerry"]
    gateway_address = network.devices["landing"].interfaces["p1.220"].addresses[0]
    forgotten = [
        index
        for index, route in enumerate(skerry.routes)
        if route.destination.length == 0 or route.destination.holds(gateway_address)
    ]
    return [
        ("kiosk-a was set up without a gateway", [Edit(("hosts", "kiosk-a", "gateway"), REMOVE)]),
        (
            "the trunk from hall to quay-2 was copied from an older plan",
            [Edit(("devices", "hall", "ports", "p22", "trunk"), ["crew", "yard"])],
        ),
        (
            "mess was plugged into a port of the wrong VLAN",
            [Edit(("devices", "quay-1", "ports", "p2", "access"), "tickets")],
        ),
        (
            "the subinterface of the yard was switched off for a test",
            [Edit(("devices", "landing", "interfaces", "p1.240", "off"), "true")],
        ),
        (
            "skerry knows the way out, but nobody gave it a way back to the terminal",
            [Edit(("devices", "skerry", "routes", index), REMOVE) for index in forgotten],
        ),
        ("holm was set up years ago and forwards IPv4 only", [Edit(("devices", "holm", "routing"), ["ipv4"])]),
    ]


def mistakes_of_others(network: Network) -> list[tuple[str, list[Edit]]]:
    """Two in what the policy and the leases need."""
    crew = network.devices["landing"].interfaces["p1.220"].addresses[0].prefix
    opened = {"accept": "any", "destination": str(crew)}
    inn = network.devices["holm"].dhcp_pools["holm-inn"].subnet
    return [
        (
            "a line that let guests print at the crew's desk was left in their filter",
            [Edit(("devices", "landing", "filters", "guests-in", "rules", "+0"), opened)],
        ),
        (
            "the inn's gateway has moved, and the pool still gives out the old one",
            [Edit(("devices", "holm", "dhcp-pools", "holm-inn", "gateway"), str(Address(4, inn.last - 1)))],
        ),
    ]


def mistakes_of_two(network: Network) -> list[tuple[str, list[Edit]]]:
    """One in what there is two of."""
    kept = ["holm-inn", *(name for name in network.vlans if name.startswith("transit"))]
    return [
        (
            "the pier's VLAN was forgotten on the inn's trunk in use; the one kept in reserve has it",
            [Edit(("devices", "inn", "ports", "p12", "trunk"), kept)],
        )
    ]


WRITTEN = ("brief.yaml", "network.yaml", "broken.yaml", "mended.yaml", "network.svg")
"""The files of the demo."""
KEPT = ".demo-files"
"""Beside them: what they are like as the demo has written them, so that changes are seen."""


def tour(directory: Path, *, force: bool = False) -> None:
    """Write the files and go through the steps, telling what each is for.

    Raises:
        QueryError: files of the demo were changed there since, and need not be kept (`force`).
    """
    changed = [] if force else _changed_since(directory)
    if changed:
        raise QueryError(
            f"{', '.join(str(directory / name) for name in changed)}: changed since the demo wrote it, or not by the "
            "demo; give another folder, or --force to write over it"
        )
    make_directory(directory)
    _tour(directory)
    write_whole(directory / KEPT, "".join(f"{_likeness(directory / name)}  {name}\n" for name in WRITTEN))


def _changed_since(directory: Path) -> list[str]:
    """The files of the demo that are not as the demo has written them."""
    try:
        lines = (directory / KEPT).read_text(encoding="utf-8").splitlines()
    except (OSError, UnicodeDecodeError):
        lines = []
    known = set(lines)
    there = [name for name in WRITTEN if (directory / name).exists()]
    return [name for name in there if f"{_likeness(directory / name)}  {name}" not in known]


def _likeness(path: Path) -> str:
    """A name for what stands in a file."""
    try:
        return sha256(path.read_bytes()).hexdigest()
    except OSError:
        return "unreadable"


def _tour(directory: Path) -> None:
    brief_path, network_path = directory / "brief.yaml", directory / "network.yaml"
    write_whole(brief_path, files("archipelago.demo").joinpath("tern-bay.yaml").read_text(encoding="utf-8"))

    _carve_and_design(brief_path, network_path)

    _step(3, "Audit: is anything wrong or risky?", f"archipelago audit {network_path}")
    network = archipelago.read_network(network_path)
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
    _break_and_mend(network, network_path)

    _carry(network, network_path)

    drawing = directory / "network.svg"
    _step(14, "Draw: the diagram", f"archipelago draw {network_path} -o {drawing}")
    archipelago.draw(network, drawing)
    out.say(f"drawn: {drawing}")
    out.say()
    out.say(f"Everything is in {directory}. Change a line of {network_path} and ask again.")


def _carve_and_design(brief_path: Path, network_path: Path) -> None:
    """Steps 1 and 2: the subnets, and everything that is decided and written down."""
    _step(1, "Carve: a subnet for each VLAN, with room to grow", f"archipelago design {brief_path} -o {network_path}")
    brief = archipelago.read_brief(brief_path)
    made = archipelago.design(brief)
    archipelago.write_network(made.network, network_path)
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


def _break_and_mend(network: Network, network_path: Path) -> None:
    """Steps 10 to 12: the network with mistakes in it, why packets stop, and the mends."""
    directory = network_path.parent
    broken_path = directory / "broken.yaml"
    _step(10, "The same network with nine mistakes", f"archipelago audit {broken_path}")
    made_wrong = mistakes(network)
    text = archipelago.amend(
        network_path.read_text(encoding="utf-8"), [edit for _, edits in made_wrong for edit in edits]
    )
    notes = "".join(f"#   {number}. {says}\n" for number, (says, _) in enumerate(made_wrong, 1))
    write_whole(broken_path, f"# Tern Bay with nine mistakes in it:\n{notes}{text}")
    broken = archipelago.read_network(broken_path)
    wrong = archipelago.audit(broken)
    out.answer(wrong)

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
        _ask(broken, source, target, steps=False)

    mended_path = directory / "mended.yaml"
    _step(12, "Mend: apply the changes and look again", f"archipelago mend {broken_path} -o {mended_path}")
    write_whole(mended_path, archipelago.mend(broken_path.read_text(encoding="utf-8")).text)
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
