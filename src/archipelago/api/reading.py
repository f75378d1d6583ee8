"""Networks and briefs from files and texts, and back."""

from __future__ import annotations

from collections.abc import Sequence
from os import PathLike, fspath
from typing import IO, TYPE_CHECKING, Any

if TYPE_CHECKING:
    from archipelago.files.as_built import AsBuilt
    from archipelago.files.tree import Tree
    from archipelago.model.brief import Brief
    from archipelago.model.finding import Edit
    from archipelago.model.network import Network

Source = str | PathLike[str] | IO[str] | IO[bytes]
"""Where a document is read from: a path, an open file, or, with a newline in it, its text."""


def read_network(source: Source) -> Network:
    """Read a network document.

    Args:
        source: a path, an open file, or the text itself (a string with a newline in it).

    Returns:
        The network, with the place of each of its parts in the file.

    Raises:
        DocumentError: with every problem of the file, each with its line and column.

    Example:
        >>> import archipelago
        >>> archipelago.read_network("format: archipelago-network/1\\nvlans: {crew: 220}\\n")
        <Network '': 0 devices, 1 VLAN, 0 hosts, 0 cables>
    """
    from archipelago.files.network import network_from

    return network_from(tree_of(source))


def read_brief(source: Source) -> Brief:
    """Read a brief.

    Args:
        source: a path, an open file, or the text itself (a string with a newline in it).

    Returns:
        The brief, with the place of each of its parts in the file.

    Raises:
        DocumentError: with every problem of the file, each with its line and column.

    Example:
        >>> import archipelago
        >>> archipelago.read_brief("format: archipelago-brief/1\\nspace: 10.44.0.0/20\\n")
        <Brief '': 0 devices, 0 VLANs, 0 hosts>
    """
    from archipelago.files.brief import brief_from

    return brief_from(tree_of(source))


def tree_of(source: Source) -> Tree:
    from archipelago.files.disk import read_bytes
    from archipelago.files.tree import parse

    if isinstance(source, str) and ("\n" in source or source.startswith("{")):
        return parse(source.encode(), "the text")
    if hasattr(source, "read"):
        content: Any = source.read()
        return parse(
            content.encode() if isinstance(content, str) else content, str(getattr(source, "name", "the file"))
        )
    if not isinstance(source, (str, PathLike)):
        raise TypeError(f"a path, an open file or a text is expected, not {type(source).__name__}")
    return parse(read_bytes(fspath(source)), str(source))


def read_address_list(source: str | PathLike[str]) -> Network:
    """Read an address list, as people keep it in a spreadsheet, as a network: devices with their interfaces and
    addresses, hosts with their ports and gateways. Cables, trunks and routes are not in such a table.

    Args:
        source: a path, or the text itself (a string with a newline in it): values separated by commas, semicolons or
            tabs, or a Markdown table; the heads (device, interface, VLAN, address, prefix or mask, gateway, port) stand
            in any order.

    Returns:
        The network.

    Raises:
        DocumentError: with every problem of the table, each with its row and column.

    Example:
        >>> import archipelago
        >>> rows = "device,VLAN,address,mask,port\\nwinch,crew (120),10.44.0.2,255.255.255.0,slip/p1\\n"
        >>> archipelago.read_address_list(rows)
        <Network '': 1 device, 1 VLAN, 1 host, 0 cables>
    """
    from archipelago.files.address_list import network_of
    from archipelago.files.disk import read_text

    if isinstance(source, str) and "\n" in source:
        return network_of(source, "the table")
    return network_of(read_text(source), str(source))


def network_text(network: Network) -> str:
    """A network as the text of its document; reading it back gives an equal network.

    Args:
        network: the network.

    Returns:
        The document, as YAML.

    Example:
        >>> import archipelago
        >>> print(archipelago.network_text(archipelago.Network(vlans={"crew": 220})), end="")
        format: archipelago-network/1
        vlans:
          crew: 220
    """
    from archipelago.files.emit import emit
    from archipelago.files.write import document_of

    return emit(document_of(a_network(network)))


def read_as_built(directory: str | PathLike[str]) -> AsBuilt:
    """Read what really runs: a directory with one folder for each device and host, with what its operating system says
    of itself in JSON (links, addresses, routes, VLANs, forwarding), and a list of cables; `docs/as-built.md` has the
    commands.

    Args:
        directory: the directory.

    Returns:
        The network, and what could not be read, in words.

    Raises:
        DocumentError: a file is missing, or is not what the command prints, with its line.

    Example:
        >>> archipelago.read_as_built("nowhere")  # doctest: +ELLIPSIS
        Traceback (most recent call last):
        archipelago.errors.DocumentError: nowhere: there is no folder in it; one for each device is expected, ...
    """
    from pathlib import Path

    from archipelago.files.as_built import read_as_built as read

    return read(Path(directory))


def write_network(network: Network, path: str | PathLike[str]) -> None:
    """Write a network document, whole or not at all.

    Args:
        network: the network.
        path: where it goes; what was there stays whole until the new file is.

    Raises:
        DocumentError: the place cannot be written to.

    Example:
        >>> archipelago.write_network(network, "nowhere/network.yaml")  # doctest: +ELLIPSIS
        Traceback (most recent call last):
        archipelago.errors.DocumentError: nowhere/network.yaml: the file cannot be written: ...
    """
    from archipelago.files.disk import write_whole

    write_whole(path, network_text(network))


def needs_of(network: Network) -> Brief:
    """The brief that a network would be designed from: its VLANs with their subnets and gateways, its devices, hosts
    and cables. Its space is the subnets that it has; a person widens it.

    Args:
        network: the network, such as one read from an address list.

    Returns:
        The brief.

    Raises:
        ModelError: the network is one that no brief could ask for.

    Example:
        >>> archipelago.needs_of(network).vlans["crew"].subnet
        (Prefix('10.44.20.0/25'),)
    """
    from archipelago.design.needs import needs_of as run

    return run(a_network(network))


def brief_text(brief: Brief) -> str:
    """A brief as the text of its document; reading it back gives an equal brief.

    Args:
        brief: the brief.

    Returns:
        The document, as YAML.

    Example:
        >>> print(archipelago.brief_text(archipelago.needs_of(network)).splitlines()[0])
        format: archipelago-brief/1
    """
    from archipelago.files.emit import emit
    from archipelago.files.write import brief_document_of

    return emit(brief_document_of(brief))


def write_brief(brief: Brief, path: str | PathLike[str]) -> None:
    """Write a brief, whole or not at all.

    Args:
        brief: the brief.
        path: where it goes; what was there stays whole until the new file is.

    Raises:
        DocumentError: the place cannot be written to.

    Example:
        >>> archipelago.write_brief(brief, "nowhere/brief.yaml")  # doctest: +ELLIPSIS
        Traceback (most recent call last):
        archipelago.errors.DocumentError: nowhere/brief.yaml: the file cannot be written: ...
    """
    from archipelago.files.disk import write_whole

    write_whole(path, brief_text(brief))


def amend(text: str, edits: Sequence[Edit]) -> str:
    """A document's text with edits made (those of a finding or an answer); comments and order stay.

    Args:
        text: a document that reads without errors.
        edits: what to change.

    Returns:
        The text with the edits in it; it reads back as what was meant.

    Raises:
        EditError: one cannot be written into this text; the message names it and says why.

    Example:
        >>> import archipelago
        >>> archipelago.amend("title: Bay  # ours\\n", [archipelago.Edit(("title",), "Tern Bay")])
        'title: Tern Bay  # ours\\n'
    """
    from archipelago.files.edit import apply

    return apply(text, edits)


def schema(kind: str) -> dict[str, object]:
    """The JSON Schema of a document, for editors, or of what a verb answers with `--json`.

    Args:
        kind: "network", "brief", "recipe", or a verb.

    Returns:
        The schema as plain mappings and lists (JSON Schema 2020-12). That of a verb is closed: it has every key.

    Raises:
        QueryError: there is no such document or verb.

    Example:
        >>> import archipelago
        >>> archipelago.schema("brief")["title"]
        'Archipelago brief'
        >>> archipelago.schema("audit")["required"]
        ['format', 'errors', 'findings']
    """
    from archipelago.errors import QueryError
    from archipelago.files.schema import DOCUMENTS
    from archipelago.files.schema import schema as of_document
    from archipelago.views.answers import schema as of_answer
    from archipelago.views.answers import verbs

    if kind in DOCUMENTS:
        return of_document(kind)
    if kind not in verbs():
        raise QueryError(f"there is no schema of '{kind}'; there are: {', '.join((*DOCUMENTS, *verbs()))}")
    return of_answer(kind)


def a_network(network: Network) -> Network:
    """What was given, if it is a network.

    Raises:
        TypeError: it is something else, and how to get a network from it.
    """
    from archipelago.model.network import Network

    if not isinstance(network, Network):
        hint = "; read it first: archipelago.read_network(...)" if isinstance(network, (str, PathLike)) else ""
        raise TypeError(f"a Network is expected, not {type(network).__name__}{hint}")
    return network
