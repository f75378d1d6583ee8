"""The brief document: a tree becomes a brief, every reference resolved, every problem told with its place."""

from __future__ import annotations

from itertools import chain
from typing import Any

from archipelago.files.bulk import members, opened
from archipelago.files.network import cables_of, demands_of, expectations_of, host_addresses, policy_of
from archipelago.files.sections import Fields, Reader
from archipelago.files.tree import Tree
from archipelago.model.brief import Brief, Conventions, DeviceNeed, GatewayPlace, HostNeed, Outside, VlanNeed, unchecked
from archipelago.model.brief_rules import brief_problems
from archipelago.model.key import Holder
from archipelago.model.parts import Path

FORMAT = "archipelago-brief/1"


def brief_from(tree: Tree) -> Brief:
    """The brief that a tree describes.

    Raises:
        DocumentError: with every problem of the file.
    """
    reader = Reader(tree, (FORMAT,))
    bulks = opened(reader, Holder.BRIEF, Holder.HOST_NEED)
    fields = reader.document(Holder.BRIEF)
    single = {name: section[1] for name, section in fields["hosts"].items()}
    conventions, outside = (_section(fields[name]) for name in ("conventions", "outside"))
    brief = unchecked(
        title=fields["title"],
        space=fields["space"],
        reserved=fields["reserved"],
        conventions=Conventions(**conventions) if conventions is not None else Conventions(),
        vlans={name: VlanNeed(name=name, **section[1]) for name, section in fields["vlans"].items()},
        devices={name: DeviceNeed(name=name, **section[1]) for name, section in fields["devices"].items()},
        gateways=tuple(_gateway(("gateways", number), field) for number, field in fields["gateways"]),
        hosts={name: _host(name, own) for name, own in chain(single.items(), members(reader, bulks, single))},
        cables=tuple(cables_of(fields["cables"])),
        outside=Outside(**outside) if outside is not None else None,
        expect=expectations_of(fields["expect"]),
        traffic=demands_of(fields["traffic"]),
        policy=policy_of(fields["policy"]),
        domain=fields["domain"],
        source=tree.source,
        marks=tree.marks,
    )
    reader.add_listed(brief_problems(brief, reader.left_out), fields)
    reader.finish()
    return brief


def _section(fields_of: Any) -> Fields | None:
    """The fields of a section that may be missing, or not have been understood."""
    return fields_of[1] if isinstance(fields_of, tuple) else None


def _gateway(path: Path, fields: Fields) -> GatewayPlace:
    rest = {field: value for field, value in fields.items() if field != "places"}
    device, port = next(iter(fields["places"]), ("", None))
    return GatewayPlace(device=device, port=port, partners=fields["places"][1:], path=path, **rest)


def _host(name: str, fields: Fields) -> HostNeed:
    device, port = fields["place"]
    rest = {field: value for field, value in host_addresses(fields).items() if field != "place"}
    return HostNeed(name=name, device=device, port=port, **rest)
