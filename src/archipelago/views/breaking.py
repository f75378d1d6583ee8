"""One failure over time, as tables and as plain values."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import Any

from archipelago.simulation.breaking import Broken, Noticed
from archipelago.simulation.standing import Standing
from archipelago.simulation.station import SECOND
from archipelago.views.face import Face
from archipelago.views.schema import COUNT, FLAG, NUMBER, TEXT, maybe, record, several
from archipelago.views.table import Table, table


def tables(broken: Broken) -> list[Table]:
    """What was lost, what happened, what became of what had begun before, and what lasts from then."""
    return [lost(broken), noticed(broken), standing(broken), lasting(broken)]


def lasting(broken: Broken) -> Table:
    """What is otherwise at the end than if everything were switched on anew."""
    return table("what lasts from before", ("what",), [(line,) for line in broken.lasting])


def standing(broken: Broken) -> Table:
    """What became of the conversation and the leases that had begun before, at the end of the break and at the end."""
    rows = [(f"{look.time / SECOND:+.3f}", line) for look in broken.standing for line in look.lines]
    return table("what had begun before", ("s", "what"), rows, ("s",))


def lost(broken: Broken) -> Table:
    """The runs of probes without an answer."""
    rows = [
        (
            f"{gap.first / SECOND:+.3f}",
            f"{(gap.last + broken.every) / SECOND:+.3f}" if gap.ended else "never",
            gap.count,
        )
        for gap in broken.lost
    ]
    return table("without an answer", ("from, s", "until, s", "probes"), rows, ("probes", "from, s", "until, s"))


def noticed(broken: Broken) -> Table:
    """What happened, in order; what several parts of a device did at one time stands together. Of a port that changes
    its mind more than twice at one time, where it ends."""
    told = Counter((one.time, one.where) for one in broken.noticed)
    last = {(one.time, one.where): one for one in broken.noticed}
    folded: dict[tuple[int, str, str], list[str]] = {}
    for one in broken.noticed:
        changes = told[one.time, one.where]
        if changes > 2:
            if one is not last[one.time, one.where]:
                continue
            one = replace(one, what=f"{one.what}, after {changes - 1} other changes")
        device, slash, place = one.where.partition("/")
        alone = "~" in one.where or not slash
        folded.setdefault((one.time, one.where if alone else device, one.what), []).append("" if alone else place)
    rows = []
    for (time, device, what), places in folded.items():
        names = dict.fromkeys(place.partition(" (")[0] for place in places)
        rows.append((f"{time / SECOND:+.3f}", f"{device}: {', '.join(names)}" if any(names) else device, what))
    return table("what happened", ("s", "where", "what"), rows, ("s",))


def values(broken: Broken) -> dict[str, Any]:
    """The answer as `--json` prints it; times are in seconds from the break on."""
    return {
        "part": broken.part,
        "source": broken.source,
        "target": broken.target,
        "survived": broken.survived,
        "sent": broken.sent,
        "answered": broken.answered,
        "answered_by": broken.answered_by,
        "every": broken.every / SECOND,
        "restored": None if broken.restored is None else broken.restored / SECOND,
        "until": broken.until / SECOND,
        "lost": [
            {
                "start": gap.first / SECOND,
                "until": (gap.last + broken.every) / SECOND if gap.ended else None,
                "probes": gap.count,
            }
            for gap in broken.lost
        ],
        "noticed": [_noticed(one) for one in broken.noticed],
        "standing": [_standing(look) for look in broken.standing],
        "lasting": list(broken.lasting),
    }


def _standing(look: Standing) -> dict[str, Any]:
    renewals = [{"host": one.host, "server": one.server, "acknowledged": one.acknowledged} for one in look.renewals]
    conversation = look.conversation or None
    return {"time": look.time / SECOND, "goes_on": look.goes_on, "conversation": conversation, "renewals": renewals}


def _noticed(one: Noticed) -> dict[str, Any]:
    return {"time": one.time / SECOND, "where": one.where, "what": one.what}


BREAK = Face(
    name="break",
    verb="outages",
    shape=record(
        part=TEXT("what breaks"),
        source=TEXT("who probes"),
        target=TEXT("whom"),
        survived=FLAG("whether it answered again at the end"),
        sent=COUNT("probes"),
        answered=COUNT("probes, by who was asked"),
        answered_by=maybe(TEXT)("another holder of the address that answers at the end"),
        every=NUMBER("seconds between probes"),
        restored=maybe(NUMBER)("seconds from the break on"),
        until=NUMBER("how long was looked, in seconds from the break on"),
        lost=several(
            record(start=NUMBER("seconds"), until=maybe(NUMBER)("seconds; null: never answered again"), probes=COUNT)
        ),
        noticed=several(record(time=NUMBER("seconds"), where=TEXT, what=TEXT)),
        standing=several(
            record(
                time=NUMBER("seconds"),
                goes_on=maybe(FLAG)("null: no conversation had begun"),
                conversation=maybe(TEXT),
                renewals=several(record(host=TEXT, server=TEXT, acknowledged=FLAG)),
            )
        )("what had begun before the break"),
        lasting=several(TEXT)("what is otherwise at the end than if everything were switched on anew, and why"),
    ),
    values=values,
    tables=tables,
    picture="breaking_picture.breaking_picture",
)
