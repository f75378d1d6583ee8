"""The states that a network is in on the way from an old one to a new one, and what the engines say of each."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property

from archipelago.addressing.values import Address
from archipelago.changes.differences import Difference
from archipelago.changes.held_leases import HeldLeases
from archipelago.changes.pairs import NOTHING, Between, Cut, Pairs, by_family
from archipelago.changes.replacement import replaced
from archipelago.errors import QueryError
from archipelago.knowledge.index import NetworkIndex
from archipelago.knowledge.known import Knowledge, apply_change, know
from archipelago.knowledge.outside import widened
from archipelago.model.filters import ECHO
from archipelago.model.network import Network
from archipelago.model.rules import network_problems
from archipelago.progress import tell
from archipelago.reachability.arrays import NetworkArrays
from archipelago.reachability.build import build_arrays, change_arrays
from archipelago.reachability.management import AddressAsking, own_addresses
from archipelago.reachability.promises import Promises


@dataclass(frozen=True)
class State:
    """A network on the way: as it is written, and which hosts have asked for their leases again; what is known of it,
    in arrays too. `ends` is what both ends answer, None at one of them; `kept` what is promised and kept at both. What
    follows from these is worked out when it is first asked for: most states are given up before."""

    network: Network
    renewed: frozenset[str]
    plain: Knowledge
    arrays: NetworkArrays
    ends: Between | None = None
    kept: frozenset[str] = frozenset()

    @cached_property
    def answers(self) -> Pairs:
        """All pairs by family."""
        return by_family(self.arrays)

    @cached_property
    def interrupted(self) -> tuple[Cut, Cut]:
        """What is cut off that both ends of the way answer, and what is left in one family that they answer in both."""
        return self.ends.interrupted(self.answers) if self.ends is not None else (NOTHING, NOTHING)

    @property
    def cut(self) -> Cut:
        """What is cut off that both ends of the way answer."""
        return self.interrupted[0]

    @property
    def halved(self) -> Cut:
        """What is left in one family only, of what both ends of the way answer in both."""
        return self.interrupted[1]

    @cached_property
    def promises(self) -> Promises:
        """What is expected, and what the policy says. Where several hold an address, that is told as such, not as a
        line of the policy."""
        return Promises(self.plain, self.arrays, contested=False)

    @cached_property
    def broken(self) -> tuple[str, ...]:
        """The expectations and lines of the policy that both ends keep and this state does not."""
        return tuple(sorted(self.kept & self.promises.lines_broken)) if self.kept else ()

    @cached_property
    def doubled(self) -> frozenset[str]:
        """The addresses that several hold."""
        return _doubled(self.arrays.knowledge)


class States:
    """Every state between two networks, each decided from one that is near it.

    Args:
        old, new: the two ends.
        host: where the person sits who makes the changes.
    """

    def __init__(self, old: Network, new: Network, host: str) -> None:
        self.old, self.new, self.host = old, new, host
        self._ways_in: dict[str, Address] = {}
        written, finally_written = know(old), know(new)
        self.leases = HeldLeases(written, finally_written)
        self.first = self._end(written, frozenset())
        self.last = self._end(finally_written, frozenset(self.leases.renewing))
        self.between = Between(self.first.answers, self.last.answers)
        ends = [state.promises for state in (self.first, self.last)]
        self._kept: frozenset[str] = frozenset()
        if all(end.lines for end in ends):
            self._kept = frozenset.intersection(*(end.lines - end.lines_broken for end in ends))
        self.same_doubled = self.first.doubled | self.last.doubled
        self.asked = 0

    def beside(
        self,
        state: State,
        back: Iterable[Difference],
        forth: Iterable[Difference],
        doubled: frozenset[str] | None = None,
    ) -> State | None:
        """The state once some differences are taken back and some are made; None where that is no network that can be.

        Args:
            state: one that is near.
            back, forth: the differences.
            doubled: the only addresses that several may hold; None where any may. Else there is no such state.
        """
        network, renewed = state.network, state.renewed
        asks: tuple[str, ...] = ()
        try:
            for difference in back:
                network = replaced(network, [one.undone for one in reversed(difference.replacements)])
                renewed -= frozenset(difference.renewing)
            for difference in forth:
                network = replaced(network, difference.replacements)
                asks += difference.renewing
        except QueryError:
            return None
        if next(iter(network_problems(network)), None) is not None:
            return None
        if asks and not self.leases.given_now(know(network), asks):
            return None
        renewed |= frozenset(asks)
        plain = apply_change(state.plain, self.leases.held(network, renewed))
        wide = widened(plain)
        if doubled is not None and _doubled(wide) - doubled:
            return None
        self.asked += 1
        tell("deciding states on the way", self.asked)
        arrays = change_arrays(state.arrays, wide.written)
        return State(network, renewed, plain, arrays, self.between, self._kept)

    def _end(self, written: Knowledge, renewed: frozenset[str]) -> State:
        """One of the two ends, where nothing is cut off."""
        held = self.leases.held(written.written, renewed)
        plain = written if held is written.written else know(held)
        return State(written.written, renewed, plain, build_arrays(widened(plain)))

    def known_after(self, plain: Knowledge, difference: Difference) -> Knowledge | None:
        """What devices know once one more difference is made; None where that is no network that can be."""
        try:
            network = replaced(plain.written, difference.replacements)
        except QueryError:
            return None
        if next(iter(network_problems(network)), None) is not None:
            return None
        return apply_change(plain, network)

    def unreached(self, knowledge: Knowledge, devices: Collection[str]) -> list[str]:
        """The devices that the host does not reach by any address of theirs, those aside that have a console."""
        if not devices:
            return []
        asking = AddressAsking(NetworkIndex(knowledge), [self.host])
        return [name for name in devices if not self._reaches(asking, knowledge, name)]

    def _reaches(self, asking: AddressAsking, knowledge: Knowledge, name: str) -> bool:
        device = knowledge.written.devices.get(name)
        if device is None or device.console:
            return True
        network = knowledge.written
        addresses = [address for version in (4, 6) for _, address in own_addresses(network, name, version)]
        known = self._ways_in.get(name)
        if known in addresses:
            addresses = [known, *(one for one in addresses if one != known)]
        for address in addresses:
            if asking.reaches(self.host, name, address, ECHO)[0]:
                self._ways_in[name] = address
                return True
        return False

    def way_in(self, state: State, name: str) -> Address | None:
        """The address that the host reaches a device by."""
        return self._ways_in.get(name) if not self.unreached(state.arrays.knowledge, [name]) else None


def _doubled(knowledge: Knowledge) -> frozenset[str]:
    return frozenset(str(address) for address, _ in NetworkIndex(knowledge).shared_addresses())


def owners(differences: Sequence[Difference], state: Network) -> list[str]:
    """The devices of a network that differences are still to be made on from afar."""
    names = dict.fromkeys(one.at for one in differences if not one.by_hand)
    return [name for name in names if name in state.devices]
