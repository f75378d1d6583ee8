"""What lasts from before a failure: where its end is otherwise than if everything were switched on anew, and why."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator

from archipelago.knowledge.elected import Elected, Member
from archipelago.knowledge.ends import first_address
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge
from archipelago.simulation.bidding import Bidder
from archipelago.simulation.probe import Probing
from archipelago.simulation.reach import held_twice, start
from archipelago.simulation.station import SECOND

FIRST = 2 * 10**9
"""The number of the first probe that is sent to find out what lasts."""
PROBES = 8
"""So many warm the tables again that were emptied, and find where several answer for one address."""


def lasting(knowledge: Knowledge, probing: Probing, bidders: Collection[Bidder], survived: bool) -> Iterator[str]:
    """What is otherwise at the end of a failure than in the same network switched on anew: who is active for shared
    gateways, and whether probes are answered, each with what lasts from before. What is known is forgotten for that,
    kind by kind, so nothing is to be asked of the simulation after it.

    Args:
        knowledge: the network as it is at the end, all settled.
        probing: who asked whom while it broke.
        bidders: every member of a shared gateway.
        survived: whether probes are answered at the end.
    """
    yield from _active_from_before(knowledge.elected, bidders)
    index = NetworkIndex(knowledge)
    source, asked, address = knowledge.nodes[probing.node.name], probing.asked, probing.address
    if asked is not None and knowledge.nodes[asked].kind == "host":
        held = [own.address for nic in knowledge.nodes[asked].nics.values() for own in nic.addresses]
        other = first_address(knowledge.nodes[asked], address.version)
        if address not in held and other is not None:
            yield f"{asked} keeps {address}; switched on anew, it would have {other}"
            address = other
    anew = Probing(start(index, source, address.version), source, address, asked, probing.kind)
    anew.until_settled(1, warm=index.once(held_twice))
    if anew.reached == survived:
        return
    target = asked or str(address)
    would = f"{source.name} would {'' if anew.reached else 'not '}reach {target}"
    why = next((what for what in _forgotten(knowledge, probing, bidders) if what[1] == anew.reached), None)
    because = f"what counts here are {why[0]}" if why else "what lasts from before is not known"
    yield f"switched on anew, {would}: {because}"


def _active_from_before(elected: Elected, bidders: Collection[Bidder]) -> Iterator[str]:
    for bidder in bidders:
        rival = elected.active_beside(bidder.member) if bidder.shared.active else None
        if rival is not None and rival.endpoint != bidder.member.endpoint:
            addresses = " and ".join(map(str, bidder.member.written.addresses))
            why = _does_not_take_over(rival, bidder.member)
            yield f"{bidder.member} stays active for {addresses}; switched on anew, {rival} would be: {why}"


def _does_not_take_over(rival: Member, active: Member) -> str:
    """Why who would be active does not take over from who is (RFC 9568 6.4.2)."""
    if not rival.written.preempt:
        return "it is set not to take over (preempt: no)"
    if rival.priority <= active.priority:
        return f"it bids {rival.priority} too, and takes over from a lower bid only"
    return f"its hold time, {rival.written.hold_time / 1000:g} s, is not over, or it is not heard yet"


def _forgotten(knowledge: Knowledge, probing: Probing, bidders: Collection[Bidder]) -> Iterator[tuple[str, bool]]:
    """What could count, and whether probes are answered once it and all before it is forgotten."""
    simulation, names = probing.simulation, knowledge.nodes.keys()

    def elect() -> None:
        for bidder in bidders:
            bidder.shared.active = knowledge.elected.active(bidder.member)
            bidder.settle()

    def ask_again() -> None:
        for name in names:
            simulation.station(name).forget_neighbours()

    def begin_anew() -> None:
        for name in names:
            simulation.station(name).forget()

    def learn_again() -> None:
        for name in names:
            if (switch := simulation.switch(name)) is not None:
                switch.forget("")

    memories: dict[str, Callable[[], None]] = {
        "gateways that stay active from before": elect,
        "next hops that are known from before, and are not asked for again": ask_again,
        "conversations and translations that are known from before": begin_anew,
        "MAC addresses that switches know from before, for 300 s": learn_again,
        "addresses that hosts have from before": lambda: simulation.hosts_anew(knowledge),
    }
    number = FIRST
    for what, forget in memories.items():
        forget()
        for _ in range(PROBES):
            number += 1
            probing.send(number)
            probing.simulation.world.run(until=probing.simulation.world.now + SECOND)
        yield what, probing.reaches(number)
