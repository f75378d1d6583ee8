"""A diagram shaded by what hangs on each part, and told in words beside it."""

from __future__ import annotations

from archipelago.failures.result import Outage, Outages
from archipelago.views.cards import Content, Link, Row
from archipelago.views.draw import told_on_diagram
from archipelago.views.shapes import Picture
from archipelago.views.table import counted

_SHARES = (0.1, 1 / 3)
"""From these shares of all pairs on the next shade is used."""
MOST_NOTES = 4
"""For so many failures it is said below the diagram what would help."""
LEGEND = (
    "the darker, the more hangs on it: nobody elsewhere, then up to a tenth of all pairs that are reached, "
    "up to a third, more"
)


def outages_picture(found: Outages) -> Picture:
    """The diagram of a network with what hangs on each part."""
    return told_on_diagram(found.network, lambda content: shade(content, found))


def shade(content: Content, found: Outages) -> None:
    """Shade the cards and cables of a diagram by what their failure does, and say it there."""
    alone = {outage.parts[0]: outage for outage in found if len(outage.parts) == 1}
    for name, card in content.cards.items():
        outage = alone.get(name)
        if outage is not None:
            card.heading += f": {words(outage)}"
            card.shade = shade_of(outage, found.reached)
        for row in card.rows:
            _tell(row, alone)
    content.links[:] = [_shaded(link, alone, found.reached) for link in content.links]
    content.subtitle = f"{content.subtitle}. {found.headline}"
    content.notes[:0] = [(LEGEND, False), *_worst(found)]


def words(outage: Outage) -> str:
    """What a failure does, as short as it can be said."""
    if outage.outcome == "cuts off":
        return f"cuts off {counted(outage.elsewhere or outage.one_family, 'pair')}"
    if outage.outcome == "cuts off its own hosts":
        return f"cuts off its {counted(outage.hosts, 'host')} only" if outage.hosts else "cuts off its own hosts only"
    return outage.outcome


def shade_of(outage: Outage, reached: int) -> int:
    """How dark a part is, from 0: nobody misses it."""
    if outage.outcome != "cuts off":
        return 0 if outage.outcome == "not missed" else 1
    share = (outage.elsewhere or outage.one_family) / max(reached, 1)
    return 2 + sum(share >= step for step in _SHARES)


def _tell(row: Row, alone: dict[str, Outage]) -> None:
    """Add to an interface's row what its failure does, where it does anything."""
    if len(row.path) == 4:
        outage = alone.get(f"{row.path[1]}/{row.path[3]}")
        if outage is not None and outage.outcome != "not missed":
            told = ", ".join(part for part in (row.cells[-1], words(outage)) if part)
            row.cells = (*row.cells[:-1], told)


def _shaded(link: Link, alone: dict[str, Outage], reached: int) -> Link:
    names = [str(link.a)] if link.b is None else [f"{link.a} ~ {link.b}", f"{link.b} ~ {link.a}"]
    outage = next((alone[name] for name in names if name in alone), None)
    if outage is None:
        return link
    said = f"; {words(outage)}" if outage.outcome != "not missed" else ""
    return link._replace(shade=shade_of(outage, reached), label=f"{link.label}{said}")


def _worst(found: Outages) -> list[tuple[str, bool]]:
    """The worst failures for which something would help, in words."""
    helped = [outage for outage in found.single_points if outage.addition is not None]
    return [
        (f"{outage.name}: add {outage.addition.says}", False) for outage in helped[:4] if outage.addition is not None
    ]
