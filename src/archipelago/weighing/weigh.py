"""Every place where the gateways of a brief could be, designed, proved, measured and ranked."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from archipelago.design.build import design
from archipelago.errors import DesignError, ModelError, QueryError
from archipelago.model.brief import Brief
from archipelago.model.network import Network
from archipelago.model.plan import Design
from archipelago.progress import steps
from archipelago.proof.design import shortcomings
from archipelago.weighing.measures import Measures, measure, steps_from
from archipelago.weighing.places import MOST_PLACES, Choice, Kind, Place, as_asked, other_places
from archipelago.weighing.ranking import Figures, flip, ranked
from archipelago.weighing.result import Refused, Weighed, Weighing

MOST_DESIGNS = 16
"""So many designs are measured."""
MOST_PLANNED = 3
"""To so many the steps from the network that runs are planned."""
KINDS: tuple[Kind, ...] = ("trunked router", "a router port for each VLAN", "layer 3 switch", "shared pair")


def weigh(
    brief: Brief,
    figures: Figures,
    *,
    keep: Network | None = None,
    host: str | None = None,
    suppose: Sequence[str] = (),
    devices: bool = False,
) -> Weighing:
    """Weigh the places where the gateways of a brief could be.

    Args:
        brief: the brief.
        figures: what the ranking hangs on.
        keep: the network that runs: nothing that can stay is moved.
        host: where the person sits who would change it; by default the first host of both.
        suppose: switches that are looked at as if they were layer 3 switches.
        devices: also count the pairs of devices' addresses.

    Raises:
        QueryError: there are no gateways to place, or one that is supposed is no switch.
        DesignError: no design works, the brief's own first.
    """
    for name in suppose:
        if name not in brief.devices or brief.devices[name].kind != "switch":
            raise QueryError(f"'{name}' is no switch of the brief; one that could be a layer 3 switch is expected")
    if not brief.gateways:
        raise QueryError("the brief has no 'gateways' to place")
    if keep is not None and host is None:
        host = next((name for name in brief.hosts if name in keep.hosts), None)
    return _Weighing(brief, keep, host, tuple(suppose), devices).result(figures)


class _Weighing:
    def __init__(
        self, brief: Brief, keep: Network | None, host: str | None, suppose: tuple[str, ...], devices: bool
    ) -> None:
        self.brief = brief
        self.devices = devices
        self.keep = keep
        self.host = host
        self.suppose = suppose
        self.asked = as_asked(brief)
        self.groups = tuple(_vlans(brief, gateway.vlans) for gateway in brief.gateways)
        self.refused: list[Refused] = []
        self.designs: list[Weighed] = []
        self.choices: list[Choice] = []
        self.own: DesignError | None = None
        self.made: dict[Choice, Design | None] = {}
        self.left_out = 0

    def result(self, figures: Figures) -> Weighing:
        """Everything weighed, the best first."""
        choices = list(dict.fromkeys(self._choices()))
        shown = choices[:MOST_DESIGNS]
        for choice in steps(shown, "weighing designs"):
            self._weigh(choice)
        better = self._best_of_each(figures)
        if better is not None and better not in shown:
            self._weigh(better)
        if not self.designs:
            raise self.own or DesignError([f"'{one.title}' cannot be built: {one.why}" for one in self.refused])
        self._plan_changes(figures)
        measures: list[Measures] = [one.measures for one in self.designs]
        order = ranked(measures, figures)
        return Weighing(
            groups=self.groups,
            designs=tuple(self.designs[number] for number in order),
            refused=tuple(self.refused),
            figures=figures,
            flip=flip(measures, order, figures),
            left_out=self.left_out + len(choices) - len(shown),
            host=self.host if self.keep is not None else None,
        )

    def _plan_changes(self, figures: Figures) -> None:
        """Plan the steps to the designs that are first by all else; planning takes longer than everything before."""
        if self.keep is None or self.host is None:
            return
        order = ranked([one.measures for one in self.designs], figures)
        for number in steps(order[:MOST_PLANNED], "planning the changes"):
            one = self.designs[number]
            planned = steps_from(self.keep, one.design.network, self.host)
            self.designs[number] = replace(one, measures=replace(one.measures, steps=planned))

    def _choices(self) -> Iterator[Choice]:
        """As the brief says; one group elsewhere; every group in a place of one kind, as far as it can be."""
        yield self.asked
        possible: list[list[Place]] = []
        for at, gateway in enumerate(self.brief.gateways):
            places: list[Place] = []
            for place in other_places(self.brief, gateway, self.suppose):
                if len(places) == MOST_PLACES:
                    self.left_out += 1
                elif self._built(choice := self._with({at: place})) is not None:
                    places.append(place)
                    yield choice
            possible.append(places)
        for kind in KINDS:
            changed = {
                at: next(place for place in places if place.kind == kind)
                for at, places in enumerate(possible)
                if self.asked.places[at].kind != kind and any(place.kind == kind for place in places)
            }
            if len(changed) > 1:
                yield self._with(changed)

    def _with(self, changed: dict[int, Place]) -> Choice:
        """The brief's own choice with some groups elsewhere."""
        places = tuple(changed.get(at, place) for at, place in enumerate(self.asked.places))
        if places == self.asked.places:
            return self.asked
        title = "; ".join(f"{self.groups[at]} {_at(place)}" for at, place in sorted(changed.items()))
        return Choice(title, places)

    def _built(self, choice: Choice) -> Design | None:
        """The design of a choice, made once; None where there is none, which is noted."""
        if choice not in self.made:
            try:
                self.made[choice] = design(choice.brief(self.brief), self.keep)
            except (DesignError, ModelError) as error:
                if choice == self.asked and isinstance(error, DesignError):
                    self.own = error
                self.made[choice] = None
                self._refuse(choice, str(error), built=False)
        return self.made[choice]

    def _refuse(self, choice: Choice, why: str, *, built: bool) -> None:
        first, *more = why.splitlines()
        rest = f" (and {len(more)} more)" if more else ""
        self.refused.append(Refused(choice.title, f"{first}{rest}", built))

    def _weigh(self, choice: Choice) -> None:
        made = self._built(choice)
        if made is None:
            return
        wrong = shortcomings(made.network)
        if wrong:
            if choice == self.asked:
                self.own = DesignError(wrong)
            self._refuse(choice, "\n".join(wrong), built=True)
            return
        places = tuple(f"{group} {_at(place)}" for group, place in zip(self.groups, choice.places, strict=True))
        supposed = tuple(dict.fromkeys(name for place in choice.places for name in place.supposed))
        measures = measure(made.network, len(supposed), self.devices)
        self.designs.append(Weighed(choice.title, choice.kind, places, supposed, measures, made))
        self.choices.append(choice)

    def _best_of_each(self, figures: Figures) -> Choice | None:
        """Each group where it did best on its own, all at once; None where fewer than two did better than the brief."""
        if self.asked not in self.choices:
            return None
        order = ranked([one.measures for one in self.designs], figures)
        ahead = order[: order.index(self.choices.index(self.asked))]
        changed: dict[int, Place] = {}
        for number in ahead:
            places = self.choices[number].places
            moved = [at for at, place in enumerate(places) if place != self.asked.places[at]]
            if len(moved) == 1:
                changed.setdefault(moved[0], places[moved[0]])
        return self._with(changed) if len(changed) > 1 else None


def _vlans(brief: Brief, vlans: Sequence[int]) -> str:
    names = {need.id: name for name, need in brief.vlans.items()}
    told = [names.get(vlan, str(vlan)) for vlan in vlans]
    return ", ".join(told) if len(told) <= 3 else f"{told[0]} and {len(told) - 1} more"


def _at(place: Place) -> str:
    return place.named if place.named.startswith("shared by") else f"at {place.named}"
