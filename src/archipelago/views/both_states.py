"""A diagram of two states of a network in one: what is new, gone or changed, in words and shaded."""

from __future__ import annotations

from archipelago.changes.comparison import Comparison
from archipelago.knowledge.index import index_network
from archipelago.views.cards import Card, Content, Group, Link, Row, content_of
from archipelago.views.draw import told_on_diagram
from archipelago.views.shapes import Picture
from archipelago.views.table import counted

SHADE = 2
"""What is new, gone or changed."""
MOST_EVENTS = 8
LEGEND = "shaded: what is NEW, GONE or CHANGED, also where only the old network has it; the rest is counted"


def comparison_picture(comparison: Comparison) -> Picture:
    """The diagram of both states in one."""
    return told_on_diagram(comparison.new, lambda content: mark(content, comparison))


def mark(content: Content, comparison: Comparison) -> None:
    """Say on the diagram of the new network what is otherwise in it, and add what only the old one has."""
    before = content_of(index_network(comparison.old))
    content.vlans += [vlan for vlan in before.vlans if vlan not in content.vlans]
    for name, card in before.cards.items():
        if name in content.cards:
            _within(content.cards[name], card)
        else:
            content.cards[name] = _all(card, "GONE")
    for name, card in content.cards.items():
        if name not in before.cards:
            _all(card, "NEW")
    changed = {one.at for one in comparison.differences}
    for card in content.cards.values():
        _shorten(card)
    for name in changed & before.cards.keys() & content.cards.keys():
        if not content.cards[name].shade:
            content.cards[name].heading += ": CHANGED"
            content.cards[name].shade = SHADE
    content.links[:] = _links(before.links, content.links)
    events = [(f"{one}", False) for one in comparison.events[:MOST_EVENTS]]
    more = len(comparison.events) - MOST_EVENTS
    events += [(f"and {more} more: archipelago compare lists them", False)] if more > 0 else []
    content.subtitle = f"{content.subtitle}. {comparison.headline}"
    content.notes[:0] = [(LEGEND, False), *events]


def _all(card: Card, word: str) -> Card:
    card.heading += f": {word}"
    card.shade = SHADE
    return card


def _within(card: Card, before: Card) -> None:
    """What is otherwise on the card of a device that both have."""
    card.rows[:], otherwise = _rows(card.rows, before.rows)
    groups = {group.vlan: group for group in card.groups}
    for group in before.groups:
        mine = groups.get(group.vlan)
        if mine is None:
            card.groups.append(Group(group.vlan, f"{group.heading}: GONE FROM HERE", group.rows))
            otherwise = True
            continue
        mine.rows[:], changed = _rows(mine.rows, group.rows)
        otherwise |= changed
    for vlan, group in groups.items():
        if vlan not in {one.vlan for one in before.groups}:
            group.heading += ": NEW HERE"
            otherwise = True
    if otherwise:
        card.heading += ": CHANGED"
        card.shade = SHADE


def _shorten(card: Card) -> None:
    """Leave only what is otherwise on a card, and how many rows are as before."""
    rows, groups = len(card.rows), len(card.groups)
    if not card.heading.endswith((": NEW", ": GONE")):
        card.rows[:] = [row for row in card.rows if row.bold]
        for group in card.groups:
            if not group.heading.endswith((": NEW HERE", ": GONE FROM HERE")):
                group.rows[:] = [row for row in group.rows if row.bold]
        card.groups[:] = [group for group in card.groups if group.rows]
        told = [counted(rows - len(card.rows), "interface")] if rows > len(card.rows) else []
        told += [f"hosts of {counted(groups - len(card.groups), 'VLAN')}"] if groups > len(card.groups) else []
        if told:
            card.rows.append(Row((f"as before: {', '.join(told)}",), ("devices", card.name)))


def _rows(rows: list[Row], before: list[Row]) -> tuple[list[Row], bool]:
    """The rows of now with what is otherwise, then those that are gone; and whether there are any such."""
    was = {row.path: row for row in before}
    made, otherwise = [], False
    for row in rows:
        old = was.pop(row.path, None)
        word = "NEW" if old is None else "" if old.cells == row.cells else f"CHANGED, was {_text(old, row)}"
        otherwise |= bool(word)
        made.append(_said(row, word))
    made += [_said(row, "GONE") for row in was.values()]
    return made, otherwise or bool(was)


def _said(row: Row, word: str) -> Row:
    if word:
        told = ", ".join(part for part in (row.cells[-1], word) if part)
        row.cells = (*row.cells[:-1], told)
        row.bold = True
    return row


def _text(old: Row, new: Row) -> str:
    """What a row said before, as far as it says something else now."""
    return " ".join(cell for cell in old.cells if cell and cell not in new.cells) or "without it"


def _links(before: list[Link], now: list[Link]) -> list[Link]:
    was = {_ends(link): link for link in before}
    made = []
    for link in now:
        old = was.pop(_ends(link), None)
        if old is None:
            link = link._replace(label=f"NEW: {link.label}", shade=SHADE)
        elif old.label != link.label:
            link = link._replace(label=f"CHANGED: {link.label} (was {old.label})", shade=SHADE)
        made.append(link)
    return [*made, *(link._replace(label=f"GONE: {link.label}", shade=SHADE, live=False) for link in was.values())]


def _ends(link: Link) -> frozenset[str]:
    return frozenset((str(link.a), str(link.b)))
