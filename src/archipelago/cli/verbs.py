"""What each verb does with its words: read, call, print, answer with an exit code."""

from __future__ import annotations

from argparse import ArgumentTypeError, Namespace

import archipelago
from archipelago.cli import out
from archipelago.errors import QueryError
from archipelago.model.network import Network


def probe_count(text: str) -> int:
    if text.isdigit() and 1 <= int(text) <= 500:
        return int(text)
    raise ArgumentTypeError(f"'{text}' is not a number of probes; a whole number from 1 to 500 is expected")


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
    findings = archipelago.audit(network)
    errors = sum(one.severity == "error" for one in findings)
    if words.as_json:
        out.say_json({"errors": errors, "findings": [finding_with_line(network, one) for one in findings]})
    else:
        out.head(view.headline(findings))
        out.say_lines(view.lines(network, findings))
    return 1 if errors else 0


def reach(words: Namespace) -> int:
    from archipelago.views import answer as view

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
        values = archipelago.to_json(found)
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
    from archipelago.knowledge.ends import find_source
    from archipelago.knowledge.index import index_network
    from archipelago.simulation.explore import broadcast
    from archipelago.views.table import counted, table

    view = index_network(network)
    heard = broadcast(view, find_source(view, words.source))
    hosts = sum(one.kind == "host" for one in heard)
    if words.as_json:
        out.say_json({"source": words.source, "hosts": hosts, "heard": archipelago.to_json(heard)})
        return 0
    out.head(
        f"a broadcast of {words.source} is heard by {counted(hosts, 'host')}, {counted(len(heard), 'station')} in all"
    )
    rows = [(one.name, one.kind, one.interface, ", ".join(one.through)) for one in heard]
    out.say_tables([table("", ("heard by", "kind", "on", "through"), rows)])
    return 0


def _trace(network: Network, words: Namespace) -> int:
    from archipelago.knowledge.ends import find_end, find_source
    from archipelago.knowledge.index import index_network
    from archipelago.simulation.explore import trace
    from archipelago.simulation.frames import ICMP_ERRORS
    from archipelago.views.table import table

    view = index_network(network)
    found = trace(view, find_source(view, words.source), find_end(view, words.target), words.family)
    reached = bool(found) and found[-1].answer == "reply"
    if words.as_json:
        out.say_json({"reached": reached, "trace": archipelago.to_json(found)})
        return 0 if reached else 1
    routers = sum(one.answer == "ttl-expired" for one in found)
    answer = "answers" if reached else "does not answer"
    out.head(f"{words.target} {answer}; {routers} routers told of themselves on the way")
    said: dict[str, str] = {"reply": "echo reply: the target itself", "no answer": "no answer"}
    said.update({str(reason): text for reason, text in ICMP_ERRORS.items()})
    rows = [(one.ttl, one.device or "-", one.address or "-", said[one.answer]) for one in found]
    limit = "hop limit" if words.family == 6 or any(":" in str(one.address or "") for one in found) else "TTL"
    out.say_tables([table("", (limit, "device", "address", "said"), rows, (limit,))])
    return 0 if reached else 1


def matrix(words: Namespace) -> int:
    from archipelago.cli.pairs import matrix as run

    return run(words)


def view(words: Namespace) -> int:
    from archipelago.cli.words import after_words, nodes_named, vlans_named
    from archipelago.knowledge.index import index_network
    from archipelago.views import device as tables

    looked = index_network(archipelago.read_network(words.network))
    nodes = nodes_named(looked, words.devices)
    if words.host:
        shown = [tables.host_view(looked, one) for one in nodes_named(looked, words.host)]
    elif words.gateways:
        shown = tables.gateways(looked)
    else:
        shown = tables.tables(looked, nodes, vlans_named(looked, words.vlan), frozenset(words.port))
        if len(words.devices) == 2:
            shown = [tables.side_by_side(looked, *nodes), *shown]
    if words.after:
        shown += [one for one in tables.learned(after_words(looked, words.after), nodes) if one.rows]
    if words.as_json:
        out.say_json({one.title: [dict(zip(one.columns, row, strict=True)) for row in one.rows] for one in shown})
        return 0
    out.head(tables.summary(nodes))
    out.say_tables(shown)
    return 0


def mend(words: Namespace) -> int:
    from archipelago.cli.mending import mend as run

    return run(words.network, words.output, words.only, words.as_json)


def draw(words: Namespace) -> int:
    archipelago.draw(archipelago.read_network(words.network), words.output)
    out.say(f"drawn: {words.output}")
    return 0


def export(words: Namespace) -> int:
    from archipelago.exchange.linux import script
    from archipelago.files.disk import write_whole

    write_whole(words.output, script(archipelago.read_network(words.network)))
    out.say(f"written: {words.output}; run it as root: sh {words.output} up, then sh {words.output} down")
    return 0


def rehearse(words: Namespace) -> int:
    from archipelago.cli.rehearsal import rehearse as run

    return run(archipelago.read_network(words.network), words.sources, words.targets, words.seconds, words.as_json)
