"""A diagram whose cables are as broad as they are full, with what they carry in numbers."""

from __future__ import annotations

from archipelago.load.result import LinkLoad, Load, rate_text
from archipelago.views.cards import Content, Link
from archipelago.views.draw import told_on_diagram
from archipelago.views.shapes import Picture

BROADEST, THINNEST = 16.0, 1.0
"""How broad the fullest cable is drawn, and one that carries nothing, in pixels."""
_STEPS = (0.0, 0.03, 0.25, 1.0)
"""From these shares of its speed on a cable is drawn in the next shade."""
LEGEND = (
    "the broader a cable, the fuller it is, the fullest the broadest; the darker: carries something, 3% of what fits, "
    "a quarter of it, more than fits"
)


def traffic_picture(load: Load) -> Picture:
    """The diagram of a network with what its cables carry."""
    return told_on_diagram(load.network, lambda content: load_on(content, load))


def load_on(content: Content, load: Load) -> None:
    """Say on the diagram what each cable carries."""
    by_port = {link.a: link for link in load.links} | {link.b: link for link in load.links if "/" in link.b}
    most = max((link.share for link in load.links), default=0.0)
    content.links[:] = [_loaded(link, by_port.get(str(link.a)), most) for link in content.links]
    content.subtitle = f"{content.subtitle}; {load.headline}"
    assumed = [(f"assumed: {load.assumed}", False)] if load.assumed else []
    over = [(f"more than fits: {link.name}, {link.share:.0%}", True) for link in load.overfull[:4]]
    content.notes[:0] = [(LEGEND, False), *assumed, *over]


def _loaded(link: Link, carried: LinkLoad | None, most: float) -> Link:
    if carried is None:
        return link
    there, back = (carried.to_b, carried.to_a) if str(link.a) == carried.a else (carried.to_a, carried.to_b)
    far = link.b.device if link.b is not None else "outside"
    told = f"to {far} {rate_text(there)}, back {rate_text(back)}: {carried.share:.0%} full"
    shade = sum(carried.share > step for step in _STEPS)
    broad = THINNEST + (BROADEST - THINNEST) * carried.share / most if most else THINNEST
    if not carried.busiest:
        told = "carries nothing"
    speed = link.label.partition(", VLAN")[0]
    return link._replace(label=f"{speed}; {told}", shade=shade, broad=broad)
