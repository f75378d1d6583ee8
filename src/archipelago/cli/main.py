"""The `archipelago` command: one verb for each step of the job."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Annotated

import typer

import archipelago
from archipelago.cli import out
from archipelago.errors import ArchipelagoError, CarveError, DesignError, DocumentError, QuestionError

app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    help="Plan the gateways between VLANs, and know which host will reach which before touching a device.",
)

NetworkFile = Annotated[str, typer.Argument(metavar="NETWORK", help="A network document.")]
Json = Annotated[bool, typer.Option("--json", help="Print the answer as JSON.")]


def _version(wanted: bool) -> None:
    if wanted:
        out.say(f"archipelago {archipelago.__version__}")
        raise typer.Exit


@app.callback()
def _top(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version.")
    ] = False,
) -> None:
    pass


@app.command()
def demo(
    directory: Annotated[str, typer.Argument(metavar="DIR", help="Where the files go; made if missing.")] = "tern-bay",
) -> None:
    """Write the demo brief and networks, and run the tour through all the steps."""
    from archipelago.cli.tour import tour

    tour(Path(directory))


@app.command()
def carve(
    space: Annotated[
        list[str], typer.Argument(metavar="SPACE... NAME=HOSTS...", help="Prefixes, then NAME=HOSTS or NAME:ID=HOSTS.")
    ],
    headroom: Annotated[str, typer.Option(help="Free room in each subnet, as a share of its hosts.")] = "25%",
    gateway: Annotated[str, typer.Option(help="first, last, +N or -N.")] = "first",
    pin: Annotated[
        list[str] | None, typer.Option(metavar="NAME=PREFIX", help="A subnet that is decided already.")
    ] = None,
    reserve: Annotated[list[str] | None, typer.Option(metavar="PREFIX", help="A block not to be given out.")] = None,
    by_vlan_id: Annotated[bool, typer.Option("--by-vlan-id", help="Make the VLAN id readable where it fits.")] = False,
    as_json: Json = False,
) -> None:
    """Allocate subnets, from the shell, without a file."""
    from archipelago.cli.words import carve_words
    from archipelago.views import carving as view

    spaces, needs, ids, pins, share = carve_words(space, pin or [], headroom)
    carving = archipelago.carve(
        spaces,
        needs,
        headroom=share,
        gateway=gateway,
        pins=pins,
        ids=ids,
        reserved=reserve or [],
        by_vlan_id=by_vlan_id,
    )
    if as_json:
        out.say_json(archipelago.to_json(carving))
        return
    out.head(view.headline(carving))
    out.say_tables(view.subnets(carving))
    out.say()
    out.say_lines(view.picture(carving))


@app.command()
def design(
    brief: Annotated[str, typer.Argument(metavar="BRIEF", help="What is needed.")],
    output: Annotated[
        str | None, typer.Option("--output", "-o", metavar="NETWORK", help="Where the network is written.")
    ] = None,
    keep: Annotated[
        str | None, typer.Option(metavar="OLD-NETWORK", help="Move nothing that this network holds.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Turn a brief into a network, and say what was decided and why."""
    from archipelago.views.table import counted, table

    asked = archipelago.read_brief(brief)
    made = archipelago.design(asked, archipelago.read_network(keep) if keep else None)
    if output:
        archipelago.write_network(made.network, output)
    if as_json:
        out.say_json(archipelago.to_json(made))
        return
    network = made.network
    parts = [
        counted(len(network.devices), "device"),
        counted(len(network.vlans), "VLAN"),
        counted(len(network.hosts), "host"),
    ]
    out.head(f"designed: {', '.join(parts)}" + (f", written to {output}" if output else ""))
    rows = [(one.subject, one.decided, one.why) for one in made.decisions]
    out.say_tables([table("decisions", ("about", "decided", "because"), rows)])
    if made.requests:
        out.say()
        out.say("to ask of others")
        out.say_lines(f"  {request}" for request in made.requests)
    if not output:
        out.say()
        out.say("not written anywhere: give -o NETWORK")


@app.command()
def audit(network: NetworkFile, as_json: Json = False) -> None:
    """Say what is wrong or risky, worst first, each with the change that mends it."""
    from archipelago.views import findings as view
    from archipelago.views.plain import finding_with_line

    read = archipelago.read_network(network)
    findings = archipelago.audit(read)
    errors = sum(one.severity == "error" for one in findings)
    if as_json:
        rows = [finding_with_line(read, one) for one in findings]
        out.say_json({"errors": errors, "findings": rows})
    else:
        out.head(view.headline(findings))
        out.say_lines(view.lines(read, findings))
    raise typer.Exit(1 if errors else 0)


@app.command()
def reach(
    network: NetworkFile,
    source: Annotated[str, typer.Argument(metavar="FROM", help="A host, a device, or DEVICE/INTERFACE.")],
    target: Annotated[str, typer.Argument(metavar="TO", help="The same, or an address.")],
    probes: Annotated[int, typer.Option(min=1, max=500, help="How many probes at least, one a second.")] = 5,
    family: Annotated[
        int | None, typer.Option(min=4, max=6, help="4 or 6; by default IPv4 where both ends have it.")
    ] = None,
    steps: Annotated[bool, typer.Option("--steps", help="Show every event on a time line.")] = False,
    device: Annotated[str | None, typer.Option(help="With --steps: only this device.")] = None,
    protocol: Annotated[str | None, typer.Option(help="With --steps: only arp or icmp.")] = None,
    from_fault: Annotated[bool, typer.Option("--from-fault", help="With --steps: from the first fault on.")] = False,
    as_json: Json = False,
) -> None:
    """Say whether a probe gets there and back; if not where, why, and what mends it."""
    from archipelago.views import answer as view
    from archipelago.views.plain import plain

    if family == 5:
        raise QuestionError("--family is 4 or 6")
    if protocol not in (None, "arp", "icmp"):
        raise QuestionError(f"there is no protocol '{protocol}' to show; accepted: arp, icmp")
    read = archipelago.read_network(network)
    if device is not None and device not in read.devices and device not in read.hosts:
        raise QuestionError(f"there is no device or host '{device}' to show the steps of")
    found = archipelago.reach(read, source, target, probes=probes, family=family)
    steps = steps or from_fault or device is not None or protocol is not None
    if as_json:
        values = plain(found)
        del values["finding"]
        if not steps:
            del values["events"]
        else:
            values["events"] = view.timeline_rows(found.events, device, protocol, from_fault)
        out.say_json(values)
    else:
        first, *rest = view.lines(found)
        out.head(first)
        out.say_lines(rest)
        if steps:
            out.say()
            out.say("every event" if not (device or protocol or from_fault) else "events")
            out.say_lines(view.timeline(found.events, device, protocol, from_fault))
    raise typer.Exit(0 if found.reached else 1)


@app.command()
def view(
    network: NetworkFile,
    device: Annotated[
        list[str] | None, typer.Argument(metavar="[DEVICE]...", help="One or more devices; default: all.")
    ] = None,
    vlan: Annotated[list[str] | None, typer.Option(help="Only this VLAN, by name or id; may be repeated.")] = None,
    port: Annotated[list[str] | None, typer.Option(help="Only this port or interface; may be repeated.")] = None,
    after: Annotated[
        str | None, typer.Option(metavar="FROM,TO", help="Probe first, then show ARP and MAC tables too.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Show what one device knows, or all of them side by side."""
    from archipelago.cli.words import after_words, nodes_named, vlans_named
    from archipelago.diagnosis.picture import picture
    from archipelago.views import device as tables

    looked = picture(archipelago.read_network(network))
    nodes = nodes_named(looked, device or [])
    shown = tables.tables(looked, nodes, vlans_named(looked, vlan or []), frozenset(port or []))
    if after:
        shown += [one for one in tables.learned(after_words(looked, after), nodes) if one.rows]
    if as_json:
        out.say_json({one.title: [dict(zip(one.columns, row, strict=True)) for row in one.rows] for one in shown})
        return
    out.head(tables.summary(nodes))
    out.say_tables(shown)


@app.command()
def mend(
    network: NetworkFile,
    output: Annotated[str, typer.Option("--output", "-o", metavar="NEW", help="Where the mended network is written.")],
    only: Annotated[
        list[str] | None, typer.Option(metavar="KIND", help="Only findings of this kind; may be repeated.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Apply the mends of the audit's findings, keep comments and order, audit again, show what changed."""
    from archipelago.cli.mending import mend as run

    raise typer.Exit(run(network, output, only or [], as_json))


@app.command()
def draw(
    network: NetworkFile,
    output: Annotated[str, typer.Option("--output", "-o", metavar="FILE", help="An .svg or .png file.")],
) -> None:
    """Draw the diagram."""
    archipelago.draw(archipelago.read_network(network), output)
    out.say(f"drawn: {output}")


def main() -> None:
    """Run the command; what the user gave wrong ends with one clear message and exit code 2."""
    try:
        app()
    except DocumentError as error:
        _fail(error.lines())
    except (CarveError, DesignError) as error:
        _fail(error.reasons)
    except ArchipelagoError as error:
        _fail([str(error)])
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(141)


def _fail(messages: list[str]) -> None:
    for message in messages:
        out.note(message)
    sys.exit(2)


if __name__ == "__main__":
    main()
