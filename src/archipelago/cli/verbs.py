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


def probe_count(text: str) -> int:
    if text.isdigit() and 1 <= int(text) <= 500:
        return int(text)
    raise ArgumentTypeError(f"'{text}' is not a number of probes; a whole number from 1 to 500 is expected")


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
    if words.as_json:
        out.say_json(archipelago.to_json(carving))
        return 0
    out.head(view.headline(carving))
    out.say_tables([view.subnets(carving)])
    out.say()
    out.say_lines(view.picture(carving))
    return 0


def design(words: Namespace) -> int:
    from archipelago.views.table import counted, table

    asked = archipelago.read_brief(words.brief)
    made = archipelago.design(asked, archipelago.read_network(words.keep) if words.keep else None)
    if words.output:
        archipelago.write_network(made.network, words.output)
    if words.as_json:
        out.say_json(archipelago.to_json(made))
        return 0
    network = made.network
    counts = ((network.devices, "device"), (network.vlans, "VLAN"), (network.hosts, "host"))
    parts = ", ".join(counted(len(things), noun) for things, noun in counts)
    out.head(f"designed: {parts}" + (f", written to {words.output}" if words.output else ""))
    rows = [(one.subject, one.decided, one.why) for one in made.decisions]
    out.say_tables([table("decisions", ("about", "decided", "because"), rows)])
    if made.requests:
        out.say()
        out.say("to ask of others")
        out.say_lines(f"  {request}" for request in made.requests)
    if not words.output:
        out.say()
        out.say("not written anywhere: give -o NETWORK")
    return 0


def audit(words: Namespace) -> int:
    from archipelago.views import findings as view
    from archipelago.views.plain import finding_with_line

    network = archipelago.read_network(words.network)
    found = archipelago.audit(network)
    if words.as_json:
        out.say_json({"errors": found.errors, "findings": [finding_with_line(network, one) for one in found]})
    else:
        out.head(found.headline)
        out.say_lines(view.lines(network, found))
    return 1 if found.errors else 0


def reach(words: Namespace) -> int:
    from archipelago.views import answer as view
    from archipelago.views.plain import plain

    network = archipelago.read_network(words.network)
    if words.broadcast:
        return _broadcast(network, words)
    if words.target is None:
        raise QueryError("name two ends: FROM and TO (or --broadcast FROM)")
    if words.trace:
        return _trace(network, words)
    if words.device is not None and words.device not in network.devices and words.device not in network.hosts:
        raise QueryError(f"there is no device or host '{words.device}' to show the steps of")
    found = archipelago.reach(network, words.source, words.target, probes=words.probes, family=words.family)
    chosen = (words.device, words.protocol, words.from_fault)
    steps = words.steps or any(chosen)
    if words.as_json:
        values = plain(found)
        for one in (values, values["other_family"] or {"finding": 0, "events": 0}):
            del one["finding"], one["events"]
        if steps:
            values["events"] = view.timeline_rows(found.events, *chosen)
            if found.other_family:
                values["other_family"]["events"] = view.timeline_rows(found.other_family.events, *chosen)
        out.say_json(values)
    else:
        first, *rest = view.lines(found)
        out.head(first)
        out.say_lines(rest)
        if steps:
            out.say()
            out.say("events" if any(chosen) else "every event")
            out.say_lines(view.timeline(found.events, *chosen))
            if found.other_family:
                out.say()
                out.say("the same in IPv6")
                out.say_lines(view.timeline(found.other_family.events, *chosen))
    return 0 if found.reached else 1


def _broadcast(network: Network, words: Namespace) -> int:
    from archipelago.views.table import table

    found = archipelago.broadcast(network, words.source)
    if words.as_json:
        out.say_json({"source": found.source, "hosts": found.hosts, "heard": archipelago.to_json(found.heard)})
        return 0
    out.head(found.headline)
    rows = [(one.name, one.kind, one.interface, ", ".join(one.through)) for one in found.heard]
    out.say_tables([table("", ("heard by", "kind", "on", "through"), rows)])
    return 0


def _trace(network: Network, words: Namespace) -> int:
    from archipelago.views.answer import trace_table

    found = archipelago.trace(network, words.source, words.target, family=words.family)
    if words.as_json:
        out.say_json({"reached": found.reached, "trace": archipelago.to_json(found.trace)})
    else:
        out.head(found.headline)
        out.say_tables([trace_table(found)])
    return 0 if found.reached else 1


def matrix(words: Namespace) -> int:
    from archipelago.cli.pairs import matrix as run

    return run(words)


def view(words: Namespace) -> int:
    from archipelago.cli.words import two_ends

    network = archipelago.read_network(words.network)
    found = archipelago.view(
        network,
        words.devices,
        vlans=words.vlan,
        ports=words.port,
        hosts=words.host,
        gateways=words.gateways,
        after=two_ends(words.after) if words.after else None,
    )
    if words.as_json:
        out.say_json({one.title.replace(" ", "_"): one.records() for one in found.tables})
        return 0
    out.head(found.headline)
    out.say_tables(found.tables)
    return 0


def mend(words: Namespace) -> int:
    from archipelago.files.disk import read_text, write_whole
    from archipelago.views import findings as view
    from archipelago.views.plain import finding_with_line

    found = archipelago.mend(read_text(words.network), only=words.only, source=words.network)
    write_whole(words.output, found.text)
    if words.as_json:
        left = [finding_with_line(found.network, one) for one in found.left]
        made = archipelago.to_json(found.made)
        out.say_json({"mended": made, "left": left, "errors": found.left.errors, "written": words.output})
    else:
        out.head(f"{found.headline}; written to {words.output}")
        out.say()
        out.say_lines(f"  {one.slug} at {one.at}: {one.mend}" for one in found.made)
        out.say()
        out.say_lines(found.diff(words.network, words.output))
        out.say_lines(view.lines(found.network, found.left))
    return 1 if found.left.errors else 0


def draw(words: Namespace) -> int:
    archipelago.draw(archipelago.read_network(words.network), words.output)
    out.say(f"drawn: {words.output}")
    return 0


def export(words: Namespace) -> int:
    from archipelago.files.disk import write_whole

    write_whole(words.output, archipelago.export(archipelago.read_network(words.network), words.format))
    out.say(f"written: {words.output}; run it as root: sh {words.output} up, then sh {words.output} down")
    return 0


def rehearse(words: Namespace) -> int:
    from archipelago.views import rehearsal as view

    network = archipelago.read_network(words.network)
    with out.bar("rehearse: the kernel's answers", words.seconds) as progress:
        found = archipelago.rehearse(network, words.sources, words.targets, seconds=words.seconds, progress=progress)
    if words.as_json:
        out.say_json(view.values(found))
    else:
        out.note(view.WHERE[found.where])
        out.head(found.headline)
        out.say_tables(view.tables(found))
        if found.differ and found.shared_addresses:
            shared = ", ".join(found.shared_addresses)
            out.say(f"addresses that several hold, whose holder is decided by chance: {shared}")
    return 1 if found.differ else 0
