"""A network or a brief as the document that would describe it: what is written is what reads back equal."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from archipelago.files.brief import FORMAT as BRIEF_FORMAT
from archipelago.files.codecs import Context, written
from archipelago.files.emit import inline
from archipelago.files.network import FORMAT
from archipelago.model.brief import Brief
from archipelago.model.device_rules import HOLDERS
from archipelago.model.filters import Filter, FilterRule
from archipelago.model.key import Holder, Key, Value
from archipelago.model.keys import keys_of
from archipelago.model.leases import Pool
from archipelago.model.network import Network
from archipelago.model.parts import AUTO, DHCP, Device, Host

Document = dict[str, Any]
SCALAR_ALONE = {
    Value.INTERFACE_ADDRESS,
    Value.HOST_ADDRESS,
    Value.NEXT_HOP,
    Value.TRAFFIC,
    Value.PORT_RANGE,
    Value.ADDRESSES,
    Value.ADDRESS,
    Value.ADDRESS_RANGE,
    Value.PROBE,
    Value.PARTY,
    Value.PLACE,
}
"""A list of one of these is written without its brackets."""
_HOLDER: Mapping[type, Holder] = {
    **HOLDERS,
    Device: Holder.DEVICE,
    Host: Holder.HOST,
    Filter: Holder.FILTER,
    FilterRule: Holder.FILTER_RULE,
    Pool: Holder.POOL,
}
"""What a part is in the document."""
_WRITTEN_ALONE = (Holder.VIRTUAL_ROUTER, Holder.TRACK)
"""A list of one of these sections is, too."""


def document_of(network: Network) -> Document:
    """The network as the document's mappings, lists and texts, in the order of its keys."""
    context = Context(network.vlans)
    document = {"format": FORMAT, **_part(Holder.NETWORK, network, context)}
    return {key: value for key, value in document.items() if value != {}}


def brief_document_of(brief: Brief) -> Document:
    """The brief as the document's mappings, lists and texts, in the order of its keys."""
    context = Context({name: need.id for name, need in brief.vlans.items()})
    document = {"format": BRIEF_FORMAT, **_part(Holder.BRIEF, brief, context)}
    return {key: value for key, value in document.items() if value != {}}


def part_text(part: object, vlans: Mapping[str, int]) -> str:
    """A part in one line, as a document would write it: `vlan: crew, address: 10.44.1.1/24`."""
    section = _part(_HOLDER[type(part)], part, Context(vlans))
    return ", ".join(f"{key}: {_one_line(value)}" for key, value in section.items())


def value_text(part: object, attribute: str, vlans: Mapping[str, int]) -> tuple[str, str]:
    """The key of one attribute of a part, and its value in one line, as a document would write them; where it would not
    write it the value is empty."""
    holder = _HOLDER[type(part)]
    key = next(key for key in keys_of(holder) if key.attribute == attribute)
    section = _part(holder, part, Context(vlans))
    value = section.get(key.name, "")
    listed = isinstance(value, list) and not any(isinstance(entry, dict) for entry in value)
    return key.name, ", ".join(map(str, value)) if listed else _one_line(value) if value else ""


def _one_line(value: Any) -> str:
    return "yes" if value is True else inline(value)


def _part(holder: Holder, part: object, context: Context) -> Document:
    """What is written of one part: the keys whose values are not those that stand where nothing is written."""
    section: Document = {}
    for key in keys_of(holder):
        if key.value is Value.FORMAT:
            continue
        if isinstance(part, Network) and key.holds == (Holder.VLAN,):
            section[key.name] = {name: _vlan(part, number) for name, number in part.vlans.items()}
            continue
        value: Any = True if key.name == "loopback" else getattr(part, key.attribute)
        if value is None and not key.required:
            continue
        if key.value is Value.HOST_ADDRESS and getattr(part, "auto", False):
            value = (*value, AUTO)
        if key.value is Value.HOST_ADDRESS and getattr(part, "dhcp", False):
            value = (DHCP, *value)
        alike = type(value) is type(key.default) or isinstance(value, Mapping)  # no flag is a number
        if value == key.default and not key.required and alike:
            continue
        section[key.name] = _value(key, value, context)
    return section


def _vlan(network: Network, number: int) -> Any:
    """What is written of a VLAN of the catalogue: its id alone, where that is all."""
    if number not in network.suspended:
        return str(number)
    return {"id": str(number), "suspended": written(Value.FLAG, True, Context())}


def _value(key: Key, value: Any, context: Context) -> Any:
    if key.value is Value.NAMED:
        return {name: _inner(key, part, context) for name, part in value.items()}
    if key.value is Value.LIST and len(value) == 1 and key.holds[0] in _WRITTEN_ALONE:
        return _inner(key, value[0], context)
    if key.value is Value.LIST:
        return [_inner(key, entry, context) for entry in value]
    if key.value is Value.SECTION:
        return _inner(key, value, context)
    if key.value is Value.PORTS:
        return list(value)
    if isinstance(value, tuple) and (key.many or key.value in (Value.TRUNK, Value.ROUTES_BACK)):
        texts = [written(key.value, entry, context) for entry in value]
        single = len(texts) == 1 and key.value in SCALAR_ALONE
        return texts[0] if single else texts
    return (
        "yes"
        if key.name == "reached" and value
        else "no"
        if key.name == "reached"
        else written(key.value, value, context)
    )


def _inner(key: Key, part: Any, context: Context) -> Any:
    if not key.holds:
        return written(key.value, part, context)
    holder = HOLDERS[type(part)] if len(key.holds) > 1 else key.holds[0]
    section = _part(holder, part, context)
    return section["ends"] if list(section) == ["ends"] else section
