"""What links carry, as people decide by it: the fullest first, what fills when, and what failures do."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from archipelago.failures.result import named
from archipelago.load.result import LinkLoad, Load, rate_text, times
from archipelago.model.parts import speed_text
from archipelago.views.face import Face, Part, set_apart
from archipelago.views.plain import plain
from archipelago.views.schema import COUNT, NUMBER, TEXT, maybe, record, several
from archipelago.views.table import Table, table

MOST_LINKS = 40
"""So many links are shown; --all has the others."""
MOST_FAILURES = 20
"""So many failures are listed; the others are no worse."""


def lines(load: Load) -> Iterator[str]:
    """What has to be known before the tables are read."""
    if load.assumed:
        yield f"assumed: {load.assumed}"
    fullest = load.fullest
    if fullest is not None and fullest.both_legs > 0.005 * fullest.busiest:
        yield (
            f"{fullest.name} carries both legs of routed packets: {rate_text(fullest.both_legs)} that come by it are "
            "routed behind it and go back over it"
        )
    if load.uncounted:
        yield f"{load.uncounted:,} ways were not followed: too many hang on an address that several hold"


def tables(load: Load) -> list[Table]:
    """The links, the busiest host ports, what was asked for, and what failures do."""
    made = [links(load), host_ports(load), demands(load)]
    return [*made, failures(load)] if load.broken is not None else made


def body(load: Load) -> list[Part]:
    """What has to be known first, then the tables."""
    return [*lines(load), *set_apart(tables(load))]


def links(load: Load) -> Table:
    """The cables between devices and the ports that lead outside, the fullest first."""
    rows = [
        (
            link.name,
            speed_text(link.speed),
            rate_text(link.to_b),
            rate_text(link.to_a),
            f"{link.share:.1%}",
            _growth(link),
            rate_text(link.both_legs) if link.both_legs else "",
        )
        for link in load.links
    ]
    columns = ("link", "speed", "from the first", "from the second", "full", "full at", "both legs")
    return table("links, the fullest first", columns, rows, columns[1:], ("both legs", "full at"), MOST_LINKS)


def host_ports(load: Load) -> Table:
    """The busiest ports of hosts."""
    rows = [
        (link.b, link.a, speed_text(link.speed), rate_text(link.to_a), rate_text(link.to_b), f"{link.share:.1%}")
        for link in load.host_links[:5]
        if link.busiest
    ]
    columns = ("host", "port", "speed", "sends", "is sent", "full")
    more = len(load.host_links) - len(rows)
    title = f"the busiest hosts ({more:,} more have more room)" if more > 0 else "hosts"
    return table(title, columns, rows, columns[2:], ("port",))


def demands(load: Load) -> Table:
    """What was asked for, and what of it arrives."""
    rows = [
        (
            demand.name,
            rate_text(demand.sent),
            f"{demand.reached:,} of {demand.pairs:,}",
            rate_text(demand.arrived),
            rate_text(demand.dropped) if demand.dropped else "",
        )
        for demand in load.demands
    ]
    columns = ("sent", "all together", "pairs that reach", "arrives", "dropped")
    return table("what is sent, answers aside", columns, rows, columns[1:])


def failures(load: Load) -> Table:
    """What each single failure does to the links that are left."""
    rows = [
        (one.part, one.fullest, f"{one.share:.1%}", named(one.filled), rate_text(one.dropped) if one.dropped else "")
        for one in load.broken or ()
    ]
    columns = ("breaks", "fullest link then", "full", "more than full then", "dropped then")
    return table("each single failure", columns, rows, ("full", "dropped then"), first=MOST_FAILURES)


def _growth(link: LinkLoad) -> str:
    return f"{times(link.growth)} today" if link.busiest else ""


def values(load: Load) -> dict[str, Any]:
    """The answer as `--json` prints it; rates are in bits per second, shares of 1."""
    fullest = load.fullest
    return {
        "assumed": load.assumed or None,
        "sent": load.sent,
        "arrived": load.arrived,
        "dropped": load.dropped,
        "fills_first": None if fullest is None else {"name": fullest.name, "growth": fullest.growth},
        "demands": [{**plain(demand), "dropped": demand.dropped} for demand in load.demands],
        "links": [_link(link) for link in load.links],
        "host_links": [_link(link) for link in load.host_links],
        "broken": None if load.broken is None else plain(load.broken),
    }


def _link(link: LinkLoad) -> dict[str, Any]:
    growth = link.growth if link.busiest else None
    return {**plain(link), "name": link.name, "share": link.share, "growth": growth}


_RATE = NUMBER("bits per second")
_LINK = record(
    a=TEXT,
    b=TEXT,
    speed=COUNT("bits per second"),
    to_b=_RATE,
    to_a=_RATE,
    to_b_again=NUMBER("what of it had come over the same cable"),
    to_a_again=NUMBER("what of it had come over the same cable"),
    name=TEXT,
    share=NUMBER("of 1"),
    growth=maybe(NUMBER)("how many times today's traffic fills it; null where it carries nothing"),
)
TRAFFIC = Face(
    name="traffic",
    verb="traffic",
    shape=record(
        assumed=maybe(TEXT)("the rule of thumb, where nobody wrote demands"),
        sent=_RATE,
        arrived=_RATE,
        dropped=_RATE,
        fills_first=maybe(record(name=TEXT, growth=NUMBER)),
        demands=several(record(name=TEXT, pairs=COUNT, reached=COUNT, sent=_RATE, arrived=_RATE, dropped=_RATE))(
            "answers aside"
        ),
        links=several(_LINK)("cables, and ports that lead outside, the fullest first"),
        host_links=several(_LINK),
        broken=maybe(
            several(record(part=TEXT, fullest=TEXT, share=NUMBER("of 1"), filled=several(TEXT), dropped=_RATE))
        )("what each failure does; null where not asked for"),
    ),
    values=values,
    tables=tables,
    body=body,
    rows=lambda load: load.rows(),
    picture="loaded.traffic_picture",
)
