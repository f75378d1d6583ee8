"""The verb `demo`: the files of Tern Bay, and in a page what they are and what is answered about them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from hashlib import sha256
from importlib.resources import files
from pathlib import Path
from typing import NamedTuple

import archipelago
from archipelago.addressing.values import Address
from archipelago.cli import out
from archipelago.errors import QueryError
from archipelago.files.disk import make_directory, write_whole
from archipelago.model.finding import REMOVE, Edit, Finding
from archipelago.model.network import Network
from archipelago.model.parts import Path as Place
from archipelago.views import answer
from archipelago.views.table import table

Mistake = tuple[str, list[Edit]]
"""What somebody did, in words, and as edits of the designed network."""


def mistakes(network: Network) -> list[Mistake]:
    """Nine mistakes that people really make, as edits of the designed network."""
    return [*mistakes_on_the_way(network), *mistakes_of_others(network), *mistakes_of_two(network)]


def mistakes_on_the_way(network: Network) -> list[Mistake]:
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


def mistakes_of_others(network: Network) -> list[Mistake]:
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


def mistakes_of_two(network: Network) -> list[Mistake]:
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


class TernBay(NamedTuple):
    """The demo's files once they are written: where, what was designed, the mistakes, and the network with them."""

    directory: Path
    design: archipelago.Design
    mistakes: list[Mistake]
    broken: Network

    @property
    def network(self) -> Network:
        """The network that was designed."""
        return self.design.network

    def path(self, name: str) -> Path:
        """Where a file of it is."""
        return self.directory / name


def write(directory: Path, *, force: bool = False) -> TernBay:
    """Write the files: what was needed, what is designed of it, with mistakes, mended, drawn.

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
    needed = files("archipelago.demo").joinpath("tern-bay.yaml").read_text(encoding="utf-8")
    write_whole(directory / "brief.yaml", needed)
    made = archipelago.design(archipelago.read_brief(directory / "brief.yaml"))
    archipelago.write_network(made.network, directory / "network.yaml")
    network = archipelago.read_network(directory / "network.yaml")
    done = mistakes(network)
    text = archipelago.amend(archipelago.network_text(network), [edit for _, edits in done for edit in edits])
    notes = "".join(f"#   {number}. {says}\n" for number, (says, _) in enumerate(done, 1))
    write_whole(directory / "broken.yaml", f"# Tern Bay with nine mistakes in it:\n{notes}{text}")
    broken = archipelago.read_network(directory / "broken.yaml")
    write_whole(directory / "mended.yaml", archipelago.mend((directory / "broken.yaml").read_text("utf-8")).text)
    archipelago.draw(network, directory / "network.svg")
    write_whole(directory / KEPT, "".join(f"{_likeness(directory / name)}  {name}\n" for name in WRITTEN))
    return TernBay(directory, made, done, broken)


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


def demo(directory: Path, *, force: bool = False) -> None:
    """Write the files, and say in a page what they are and what is answered about them.

    Raises:
        QueryError: files of the demo were changed there since, and need not be kept (`force`).
    """
    bay = write(directory, force=force)
    network = bay.network
    out.head(
        f"Tern Bay: {len(network.vlans)} VLANs, {len(network.devices)} devices and {len(network.hosts)} hosts, in IPv4 "
        "and IPv6"
    )
    out.say(f"written to {directory}:")
    out.say("brief.yaml (what is needed), network.yaml (designed), network.svg (drawn),")
    out.say("broken.yaml (with nine mistakes), mended.yaml (with the mends made)")
    out.say(f"designed: {bay.design.carving.headline}")
    out.say_tables([table("what it answers", ("archipelago", "answer"), list(_answers(network)), least=("answer",))])
    out.say()
    out.head("the mistakes in broken.yaml, and what the audit says of them")
    for number, (done, finding) in enumerate(_told_of(bay), 1):
        out.say(f"{number}. {done}")
        out.say(f"   {finding.kind} at {finding.at}: {finding.mend}")
    out.say()
    out.head("archipelago reach broken.yaml purser camera-s")
    asked = archipelago.reach(bay.broken, "purser", "camera-s")
    out.answer(asked, body=answer.body(asked))
    out.say()
    out.head("what to try next")
    for line in (
        f"cd {directory}",
        "archipelago audit broken.yaml",
        "archipelago outages network.yaml --break holm --from innkeeper --to purser",
        "archipelago demo tour ../tour    # every step, with its command",
    ):
        out.say(f"  {line}")


def _answers(network: Network) -> Iterator[tuple[str, str]]:
    """Five questions about the designed network, each with its answer in a line."""
    yield "audit network.yaml", archipelago.audit(network).headline
    yield "reach network.yaml kiosk-a mess", archipelago.reach(network, "kiosk-a", "mess").headline
    yield "matrix network.yaml", archipelago.matrix(network).headline
    yield "matrix network.yaml --policy", archipelago.check_policy(network).headline
    yield "view network.yaml --leases", archipelago.view(network, leases=True).headline


def _told_of(bay: TernBay) -> Iterator[tuple[str, Finding]]:
    """Each mistake with the finding about it: the one whose place, or whose change, is nearest to what was done."""
    found = archipelago.audit(bay.broken)
    for done, edits in bay.mistakes:
        places = [edit.path for edit in edits]
        yield done, max(found, key=lambda finding: _nearness(finding, places))


def _nearness(finding: Finding, places: Sequence[Place]) -> int:
    own = (finding.path, *(edit.path for edit in finding.edits))
    return max(_shared(one, other) for one in own for other in places)


def _shared(one: Place, other: Place) -> int:
    """How many steps two places have in common from the top."""
    return next((at for at, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other)))
