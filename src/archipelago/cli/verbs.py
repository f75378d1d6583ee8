"""What each verb does with its words: read, call, print, answer with an exit code."""

from __future__ import annotations

import re
from argparse import ArgumentTypeError, Namespace
from typing import TYPE_CHECKING

import archipelago
from archipelago.cli import out
from archipelago.errors import QueryError

if TYPE_CHECKING:
    from archipelago.model.network import Network
    from archipelago.simulation.reach import ReachResult


SCHEMA_LINE = "# yaml-language-server: $schema=archipelago-network.schema.json"
"""How editors find the schema of a document that stands beside it: `archipelago schema network -o` that name."""


def probe_count(text: str) -> int:
    if text.isdigit() and 1 <= int(text) <= 500:
        return int(text)
    raise ArgumentTypeError(f"'{text}' is not a number of probes; a whole number from 1 to 500 is expected")


def event_number(text: str) -> int:
    if text.isascii() and text.isdigit() and len(text) < 10:
        return int(text)
    raise ArgumentTypeError(f"'{text}' is not the number of an event; --steps shows them")


def seconds(text: str) -> float:
    if re.fullmatch(r"\d{1,6}(\.\d{1,3})?", text, re.ASCII) and float(text) > 0:
        return float(text)
    raise ArgumentTypeError(f"'{text}' is not a time; seconds above 0 are expected, such as 60 or 7.5")


def demo(words: Namespace) -> int:
    from pathlib import Path

    from archipelago.cli.tour import tour

    tour(Path(words.directory))
    return 0


def carve(words: Namespace) -> int:
    from archipelago.cli.words import carve_words
    from archipelago.views import carving as view

    spaces, needs, ids, pins, share = carve_words(words.words, words.pin, words.headroom)
    carving = archipelago.carve(
        spaces,
        needs,
        headroom=share,
        gateway=words.gateway,
        pins=pins,
        ids=ids,
        reserved=words.reserve,
        by_vlan_id=words.by_vlan_id,
    )
    if words.output:
        archipelago.draw_space(carving, words.output)
    if words.as_json:
        out.say_json(archipelago.to_json(carving))
        return 0
    out.head(view.headline(carving))
    out.say_tables([view.subnets(carving)])
    out.say()
    out.say_lines(view.picture(carving))
    if words.output:
        out.say()
        out.say(f"drawn: {words.output}")
    return 0


def design(words: Namespace) -> int:
    from archipelago.files.disk import write_whole
    from archipelago.views import design as view

    asked = archipelago.read_brief(words.brief)
    made = archipelago.design(asked, archipelago.read_network(words.keep) if words.keep else None)
    if words.output:
        write_whole(words.output, f"{SCHEMA_LINE}\n{archipelago.network_text(made.network)}")
    if words.as_json:
        out.say_json(archipelago.to_json(made))
        return 0
    out.head(view.headline(made) + (f", written to {words.output}" if words.output else ""))
    if made.requests:
        out.say()
        out.say("to ask of others")
        out.say_lines(f"  {request}" for request in made.requests)
    out.say_tables(table for table in view.tables(made) if table.rows)
    if not words.output:
        out.say()
        out.say("not written anywhere: give -o NETWORK")
    return 0


def audit(words: Namespace) -> int:
    from archipelago.views import findings as view
    from archipelago.views.plain import finding_with_line

    network = archipelago.read_network(words.network)
    result = archipelago.audit(network, quick=words.quick)
    if words.as_json:
        out.say_json({"errors": result.errors, "findings": [finding_with_line(network, finding) for finding in result]})
    else:
        tried = "; quick: neither pairs nor mends were tried" if words.quick else ""
        out.head(f"{result.headline}{tried}")
        out.say_lines(view.lines(network, result))
    return 1 if result.errors else 0


def reach(words: Namespace) -> int:
    from archipelago.views import answer as view
    from archipelago.views import timeline as times
    from archipelago.views.plain import plain

    network = archipelago.read_network(words.network)
    if words.targets and (words.broadcast or words.in_order):
        option = "--broadcast" if words.broadcast else "--in-order"
        raise QueryError(f"{option} asks of FROM alone; leave out {words.targets[0]}, or the option")
    if words.broadcast:
        return _broadcast(network, words)
    if words.in_order:
        return _in_order(network, words)
    if words.lease:
        return _lease(network, words)
    if not words.targets:
        raise QueryError("name two ends: FROM and TO (or FROM with --broadcast, --in-order or --lease)")
    if len(words.targets) > 1:
        return _several(network, words)
    words.target = words.targets[0]
    if words.trace:
        return _trace(network, words)
    if words.device is not None and words.device not in network.devices and words.device not in network.hosts:
        raise QueryError(f"there is no device or host '{words.device}' to show the steps of")
    answer = archipelago.reach(
        network, words.source, words.target, probes=words.probes, family=words.family, probe=words.probe
    )
    if words.next or words.after is not None or words.frame is not None:
        return _event(answer, words)
    chosen = times.Chosen(words.device, words.protocol, words.from_fault)
    steps = words.steps or bool(chosen)
    if words.as_json:
        values = plain(answer)
        for family_values in (values, values["other_family"] or {"finding": 0, "events": 0}):
            del family_values["finding"], family_values["events"]
        if steps:
            values["events"] = times.timeline_rows(answer.events, chosen)
            if answer.other_family:
                values["other_family"]["events"] = times.timeline_rows(answer.other_family.events, chosen)
        out.say_json(values)
    else:
        first, *rest = view.parts(answer)
        out.head(str(first))
        out.say_parts(rest)
        if steps:
            title = "events" if chosen else "every event"
            out.say_tables([times.timeline(title, answer.events, chosen)])
            if answer.other_family:
                out.say_tables([times.timeline("the same in IPv6", answer.other_family.events, chosen)])
    return 0 if answer.reached else 1


def _event(answer: ReachResult, words: Namespace) -> int:
    """One event in full: a certain one, or the next that matters."""
    from archipelago.views import timeline as times

    number = words.frame if words.frame is not None else times.next_that_matters(answer.events, words.after or 0)
    shown = times.in_full(answer.events, number)
    if words.as_json:
        fields = {row[0]: row[1] for row in shown.rows}
        out.say_json({"number": number, "events": len(answer.events), "event": fields})
        return 0 if answer.reached else 1
    out.head(answer.headline)
    out.say_tables([shown])
    out.say()
    out.say(f"the next that matters: --after {number}; all events: --steps")
    return 0 if answer.reached else 1


def _in_order(network: Network, words: Namespace) -> int:
    result = archipelago.reach_in_order(network, words.source, family=words.family)
    if words.as_json:
        checks = [
            {
                "what": check.what,
                "meaning": check.meaning,
                **{key: getattr(check.answer, key) for key in ("target", "reached", "cause", "at", "mend")},
            }
            for check in result.checks
        ]
        out.say_json({"source": result.source, "reached": result.reached, "checks": checks, "stopped": result.stopped})
    else:
        headline, *rest = str(result).splitlines()
        out.head(headline)
        out.say_lines(rest)
        failed = next((check.answer for check in result.checks if not check.answer.reached), None)
        if failed is not None:
            out.say()
            out.say_lines(f"  {line}" for line in failed.why_not)
    return 0 if result.reached else 1


def _several(network: Network, words: Namespace) -> int:
    """One source and several targets, a line each; why not below those that are not reached."""
    from archipelago.views.plain import plain

    if words.trace or words.steps:
        raise QueryError("--trace and --steps show one target; name one")
    answers = [
        archipelago.reach(network, words.source, target, probes=words.probes, family=words.family)
        for target in words.targets
    ]
    good = sum(answer.reached for answer in answers)
    if words.as_json:
        keys = ("source", "target", "address", "family", "reached", "cause", "at", "mend")
        out.say_json([{key: plain(getattr(answer, key)) for key in keys} for answer in answers])
    else:
        out.head(f"{words.source}: {good} of {len(answers)} reached")
        for answer in answers:
            out.say_lines(str(answer).splitlines())
    return 0 if good == len(answers) else 1


def _broadcast(network: Network, words: Namespace) -> int:
    from archipelago.views.table import table

    result = archipelago.broadcast(network, words.source)
    if words.as_json:
        out.say_json({"source": result.source, "hosts": result.hosts, "heard": archipelago.to_json(result.heard)})
        return 0
    out.head(result.headline)
    rows = [
        (receiver.name, receiver.kind, receiver.interface, ", ".join(receiver.through)) for receiver in result.heard
    ]
    out.say_tables([table("", ("heard by", "kind", "on", "through"), rows)])
    return 0


def _lease(network: Network, words: Namespace) -> int:
    from archipelago.views import lease as view
    from archipelago.views import timeline as times
    from archipelago.views.plain import plain

    if words.targets:
        raise QueryError("--lease asks about FROM alone; leave out TO")
    answer = archipelago.lease(network, words.source)
    chosen = times.Chosen(words.device, words.protocol, words.from_fault)
    steps = words.steps or bool(chosen)
    if words.as_json:
        values = plain(answer)
        values["finding"] = plain(answer.finding)
        values["heard"] = [dict(zip(view.heard(answer).columns, row, strict=True)) for row in view.heard(answer).rows]
        values["exchange"] = view.exchange(answer).records()
        values["events"] = times.timeline_rows(answer.events, chosen) if steps else len(answer.events)
        out.say_json(values)
    else:
        first, *rest = view.parts(answer)
        out.head(str(first))
        out.say_parts(rest)
        if steps:
            out.say_tables([times.timeline("events" if chosen else "every event", answer.events, chosen)])
    return 0 if answer.leased else 1


def _trace(network: Network, words: Namespace) -> int:
    from archipelago.views.answer import trace_table

    result = archipelago.trace(network, words.source, words.target, family=words.family)
    if words.as_json:
        out.say_json({"reached": result.reached, "trace": archipelago.to_json(result.trace)})
    else:
        out.head(result.headline)
        out.say_tables([trace_table(result)])
    return 0 if result.reached else 1


def matrix(words: Namespace) -> int:
    from archipelago.cli.pairs import matrix as run

    return run(words)


def view(words: Namespace) -> int:
    from archipelago.cli.words import two_ends

    network = archipelago.read_network(words.network)
    if words.table:
        out.say_lines(archipelago.export(network, words.table).splitlines())
        return 0
    if words.leases and words.as_json:
        out.say_json(archipelago.leases(network))
        return 0
    result = archipelago.view(
        network,
        words.devices,
        vlans=words.vlan,
        ports=words.port,
        hosts=words.host,
        gateways=words.gateways,
        policy=words.policy,
        leases=words.leases,
        after=two_ends(words.after) if words.after else None,
    )
    if words.as_json:
        out.say_json({table.title.replace(" ", "_"): table.records() for table in result.tables})
        return 0
    out.head(result.headline)
    out.say_tables(result.tables)
    return 0


def mend(words: Namespace) -> int:
    from archipelago.files.disk import read_text, write_whole
    from archipelago.views import findings as view
    from archipelago.views.plain import finding_with_line

    result = archipelago.mend(read_text(words.network), only=words.only, source=words.network)
    write_whole(words.output, result.text)
    if words.as_json:
        left = [finding_with_line(result.network, finding) for finding in result.left]
        made = archipelago.to_json(result.made)
        told = {"mended": made, "not_written": list(result.refused), "left": left}
        out.say_json({**told, "errors": result.left.errors, "written": words.output})
    else:
        headline, *made_lines = str(result).splitlines()
        out.head(f"{headline}; written to {words.output}")
        out.say()
        out.say_lines(made_lines)
        out.say()
        out.say_lines(result.diff(words.network, words.output))
        out.say_lines(view.lines(result.network, result.left))
    return 1 if result.left.errors else 0


def draw(words: Namespace) -> int:
    from archipelago.cli.words import two_ends

    way = two_ends(words.way) if words.way else None
    archipelago.draw(archipelago.read_network(words.network), words.output, way=way)
    out.say(f"drawn: {words.output}")
    return 0


def export(words: Namespace) -> int:
    from archipelago.files.disk import write_whole

    write_whole(words.output, archipelago.export(archipelago.read_network(words.network), words.format))
    run = f"; run it as root: sh {words.output} up, then sh {words.output} down" if words.format == "linux" else ""
    out.say(f"written: {words.output}{run}")
    return 0


def import_table(words: Namespace) -> int:
    from archipelago.views.table import counted

    network = archipelago.read_addressing_table(words.table)
    made: archipelago.Network | archipelago.Brief = network
    if words.brief:
        made = archipelago.needs_of(network)
        archipelago.write_brief(made, words.output)
    else:
        archipelago.write_network(network, words.output)
    parts = ((made.devices, "device"), (made.vlans, "VLAN"), (made.hosts, "host"))
    told = ", ".join(counted(len(things), noun) for things, noun in parts)
    out.head(f"imported: {told}, written to {words.output}")
    if words.brief:
        out.say("a table holds no cables and no space beyond its subnets: add them, then design it")
    else:
        out.say("a table holds no cables, trunks or routes: add them, then audit it")
    return 0


def rehearse(words: Namespace) -> int:
    from archipelago.views import rehearsal as view

    network = archipelago.read_network(words.network)
    result = archipelago.rehearse(network, words.sources, words.targets, seconds=words.seconds, probe=words.probe)
    if words.as_json:
        out.say_json(view.values(result))
    else:
        out.note(view.WHERE[result.where])
        out.head(result.headline)
        out.say_tables(view.tables(result))
        if result.differ and result.shared_addresses:
            shared = ", ".join(result.shared_addresses)
            out.say(f"addresses that several hold, whose holder is decided by chance: {shared}")
    return 1 if result.differ else 0


def schema(words: Namespace) -> int:
    import json

    from archipelago.files.disk import write_whole

    text = json.dumps(archipelago.schema(words.kind), indent=2) + "\n"
    if words.output:
        write_whole(words.output, text)
        out.say(f"written: {words.output}")
    else:
        out.say_lines(text.splitlines())
    return 0


def completion(words: Namespace) -> int:
    from argcomplete.shell_integration import shellcode

    out.say_lines(shellcode(["archipelago"], shell=words.shell).splitlines())
    return 0
