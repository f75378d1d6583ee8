"""A network with a document's edits made to it, without a file: only what they touch is read again."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from archipelago.errors import DocumentError, Problem
from archipelago.files.meant import Ranges, meaning
from archipelago.files.network import FORMAT, network_parts
from archipelago.files.tree import Tree
from archipelago.files.write import Document, document_of
from archipelago.model.finding import Edit
from archipelago.model.network import Network, with_changes
from archipelago.model.rules import network_problems


class Amendable:
    """A network whose document was worked out once, however many edits are tried on it."""

    def __init__(self, network: Network) -> None:
        self.network = network
        self.document: Document = document_of(network)
        self._ranges = Ranges(self.document)

    def with_edits(self, edits: Iterable[Edit]) -> Network:
        """The network with edits made; parts that they do not touch are the same objects.

        Raises:
            EditError: an edit has no place.
            DocumentError: the outcome is not a network.
        """
        old, new = self.document, meaning(self.document, edits, self._ranges).value
        network = self.network
        touched: dict[str, Any] = {}
        for key in ("devices", "hosts"):
            before, after = old.get(key) or {}, new.get(key) or {}
            touched[key] = {name: part for name, part in after.items() if before.get(name) is not part}
        same_vlans = old.get("vlans") == new.get("vlans")
        partial = {"format": FORMAT, "vlans": new.get("vlans") or {}, **touched, "cables": new.get("cables") or []}
        rest = [key for key in {**old, **new} if key not in partial and old.get(key) != new.get(key)]
        partial.update({key: new[key] for key in rest if key in new})
        if not same_vlans:  # everything may name what is gone
            partial.update(devices=new.get("devices") or {}, hosts=new.get("hosts") or {})
        read = network_parts(Tree("the network with the mend", _as_read(partial), {}))
        changed = with_changes(
            network,
            vlans=network.vlans if same_vlans else read.vlans,
            suspended=network.suspended if same_vlans else read.suspended,
            devices=_merged(network.devices, read.devices, new.get("devices") or {}),
            hosts=_merged(network.hosts, read.hosts, new.get("hosts") or {}) if touched["hosts"] else network.hosts,
            cables=network.cables if old.get("cables") == new.get("cables") else read.cables,
            **{key: getattr(read, key) for key in rest},
        )
        problems = [Problem(0, 0, problem.message) for problem in network_problems(changed)]
        if problems:
            raise DocumentError("the network with the mend", problems)
        return changed


def _as_read(value: Any) -> Any:
    """Plain data as it would come out of a file: every value a text."""
    if isinstance(value, dict):
        return {str(key): _as_read(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [_as_read(entry) for entry in value]
    return value if value is None else str(value)


def _merged(before: Mapping[str, Any], read: Mapping[str, Any], names: Iterable[str]) -> dict[str, Any]:
    """What was read anew among what was there, in the order of the document."""
    return {name: read[name] if name in read else before[name] for name in names}
