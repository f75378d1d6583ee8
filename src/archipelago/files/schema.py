"""The JSON Schema of the documents (JSON Schema 2020-12), from the declared keys."""

from __future__ import annotations

from typing import Any

from archipelago.files.brief import FORMAT as BRIEF_FORMAT
from archipelago.files.network import FORMAT as NETWORK_FORMAT
from archipelago.files.recipe import FORMAT as RECIPE_FORMAT
from archipelago.model.key import Holder, Key, Value
from archipelago.model.keys import keys_of, telling_key
from archipelago.model.values import (
    BRIDGE_PRIORITIES,
    DECREMENTS,
    METRICS,
    MOST_HOSTS,
    PATH_COSTS,
    PRIORITIES,
    VLAN_IDS,
    VRIDS,
)

DRAFT = "https://json-schema.org/draft/2020-12/schema"
"""The version of JSON Schema."""
Schema = dict[str, Any]
_WHOLE: Schema = {"type": ["integer", "string"], "pattern": r"^\d+$|[{]"}
_TEXT: Schema = {"type": ["string", "number", "boolean"]}
_NAME_TEXT = r"(?=[^A-Za-z]*[A-Za-z])[A-Za-z0-9][A-Za-z0-9._-]{0,62}"
_PORT_TEXT = r"[A-Za-z0-9][A-Za-z0-9._-]*(/[A-Za-z0-9][A-Za-z0-9._-]*)*"
_NAME: Schema = {"type": "string", "pattern": f"^{_NAME_TEXT}$"}
_PORT_NAME: Schema = {"type": ["string", "integer"], "pattern": f"^{_PORT_TEXT}$", "maxLength": 63}
_FLAG: Schema = {"enum": [True, False, "true", "false", "yes", "no"]}
_PORT = f"{_NAME_TEXT}/{_PORT_TEXT}"
_ADDRESS = r"[0-9A-Fa-f:.]+"
_PLACES = "[A-Za-z0-9{][A-Za-z0-9._{},/-]*"
"""Places of hosts in bulk hold ranges."""


def _within(accepted: range) -> Schema:
    """A whole number of a range."""
    step = {"multipleOf": accepted.step} if accepted.step > 1 else {}
    return {**_WHOLE, "minimum": accepted[0], "maximum": accepted[-1], **step}


def _text(pattern: str) -> Schema:
    """A text of a pattern; one with a range (`{1..24}`) is taken as it is."""
    return {"type": "string", "pattern": f"^(?:{pattern})$|[{{]"}


_VALUES: dict[Value, Schema] = {
    Value.FLAG: _FLAG,
    Value.NAME: _NAME,
    Value.SPEED: _text(r"\d+(\.\d+)?[MGT]"),
    Value.VLAN_ID: _within(VLAN_IDS),
    Value.VLAN: _TEXT,
    Value.UNTAGGED: _TEXT,
    Value.PORT_NAME: _PORT_NAME,
    Value.ADDRESS: _text(_ADDRESS),
    Value.ADDRESS_RANGE: _text(f"{_ADDRESS}(-{_ADDRESS})?"),
    Value.DURATION: _text(r"\d{1,9}(\.\d{1,3})?(ms|s|m|h|d)"),
    Value.INTERFACE_ADDRESS: _text(_ADDRESS + r"/\d{1,3}"),
    Value.HOST_ADDRESS: _text(rf"(auto|dhcp|{_ADDRESS}/\d{{1,3}})"),
    Value.PREFIX: _text(_ADDRESS + r"/\d{1,3}"),
    Value.NEXT_HOP: _text(_ADDRESS + "(%.+)?"),
    Value.MAC: _text("[0-9A-Fa-f]{2}(-[0-9A-Fa-f]{2}){5}"),
    Value.PORT: _text(_PLACES),
    Value.PLACE: _text(_PLACES),
    Value.ENDS: _text(rf"\s*{_PORT}\s*~\s*{_PORT}\s*"),
    Value.METRIC: _within(METRICS),
    Value.COUNT: _within(range(MOST_HOSTS + 1)),
    Value.PORTS: {"anyOf": [{**_WHOLE, "minimum": 0, "maximum": 4096}, {"type": "array", "items": _PORT_NAME}]},
    Value.FAMILY: {"enum": ["ipv4", "ipv6"]},
    Value.KIND: {"enum": ["router", "l3switch", "switch"]},
    Value.UNRESOLVED: {"enum": ["hold", "drop"]},
    Value.SHARE: _text(r"\d{1,4}(\.\d{1,2})?%"),
    Value.GATEWAY_CONVENTION: {"type": ["string", "integer"]},
    Value.SUBNETS: {"enum": ["by-size", "by-vlan-id"]},
    Value.SUBINTERFACE: {"enum": ["by-vlan-id", "counted"]},
    Value.TRANSIT: {"enum": ["/30", "/31"]},
    Value.ON_OFF: {"enum": [True, False, "on", "off", "true", "false", "yes", "no"]},
    Value.BRIDGE_PRIORITY: _within(BRIDGE_PRIORITIES),
    Value.PATH_COST: _within(PATH_COSTS),
    Value.VRID: _within(VRIDS),
    Value.PRIORITY: _within(PRIORITIES),
    Value.DECREMENT: _within(DECREMENTS),
}


DOCUMENTS = {
    "network": (Holder.NETWORK, NETWORK_FORMAT),
    "brief": (Holder.BRIEF, BRIEF_FORMAT),
    "recipe": (Holder.RECIPE, RECIPE_FORMAT),
}
"""The documents, each with who holds its keys and its format."""


def schema(kind: str) -> Schema:
    """The schema of a document.

    Args:
        kind: one of DOCUMENTS.

    Returns:
        The schema as plain mappings and lists. It takes values as YAML and JSON readers give them (`off: true` is a
        boolean, `210` a number), and says nothing of what one part says of another: that a VLAN named on a trunk is in
        the catalogue is the reader's to check.
    """
    holder, format_name = DOCUMENTS[kind]
    return {"$schema": DRAFT, "title": f"Archipelago {kind}", **_section(holder, format_name)}


def _section(holder: Holder, format_name: str = "") -> Schema:
    keys = keys_of(holder)
    required = [key.name for key in keys if key.required]
    if holder in (Holder.SUBINTERFACE, Holder.VLAN_INTERFACE, Holder.AGGREGATE, Holder.LOOPBACK):
        required.append(telling_key(holder).name)
    schema: Schema = {
        "type": "object" if required else ["object", "null"],
        "additionalProperties": False,
        "properties": {
            key.name: {
                "description": key.about,
                **({"const": format_name} if key.value is Value.FORMAT else _value(key)),
            }
            for key in keys
        },
    }
    return {**schema, "required": required} if required else schema


def _value(key: Key) -> Schema:
    if key.value is Value.SECTION:
        return _section(key.holds[0])
    if key.value is Value.NAMED:
        schema = _any_of(key) if key.holds else _VALUES[Value.ADDRESS if key.name == "reservations" else Value.VLAN_ID]
        if key.holds == (Holder.VLAN,):
            schema = {"anyOf": [_VALUES[Value.VLAN_ID], schema]}
        return {"type": ["object", "null"], "additionalProperties": schema}
    if key.value is Value.LIST:
        schema = _any_of(key)
        if key.holds == (Holder.CABLE,):
            schema = {"anyOf": [schema, _VALUES[Value.ENDS]]}
        return {"anyOf": [schema, {"type": ["array", "null"], "items": schema}]}
    if key.value is Value.TRUNK:
        return {"anyOf": [_TEXT, {"type": "array", "items": _TEXT}, {"type": "null"}]}
    schema = _VALUES.get(key.value, _TEXT)
    return {"anyOf": [schema, {"type": "array", "items": schema}, {"type": "null"}]} if key.many else schema


def _any_of(key: Key) -> Schema:
    sections = [_section(holder) for holder in key.holds]
    return sections[0] if len(sections) == 1 else {"anyOf": sections}
