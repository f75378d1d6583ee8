"""Networks and briefs from files and texts, and back."""

from __future__ import annotations

from collections.abc import Sequence
from os import PathLike, fspath
from typing import IO, TYPE_CHECKING, Any

from archipelago.api.arguments import checked

if TYPE_CHECKING:
    from archipelago.files.address_list import AddressList
    from archipelago.files.as_built import AsBuilt
    from archipelago.files.tree import Tree
    from archipelago.model.brief import Brief
    from archipelago.model.finding import Edit
    from archipelago.model.network import Network

Source = str | PathLike[str] | IO[str] | IO[bytes]
"""Where a document is read from: a path, an open file, or, with a newline in it, its text."""


@checked
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


@checked
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
    from archipelago.files.tree import parse

    name, content = _named_bytes(source)
    return parse(content, name)


def _named_bytes(source: Source) -> tuple[str, bytes]:
    """How messages name a document, and what it holds."""
    from archipelago.files.disk import read_bytes

    if isinstance(source, str) and ("\n" in source or source.startswith("{")):
        return "the text", source.encode()
    if isinstance(source, (str, PathLike)):
        return str(source), read_bytes(fspath(source))
    content: Any = source.read()
    return str(getattr(source, "name", "the file")), content.encode() if isinstance(content, str) else content


def named_text(document: Source | Network) -> tuple[str, str]:
    """How messages name a document, and its text as it stands.

    Raises:
        DocumentError: it cannot be read, or is not UTF-8.
    """
    from archipelago.files.disk import decoded
    from archipelago.model.network import Network

    if isinstance(document, Network):
        return "the network", network_text(document)
    name, content = _named_bytes(document)
    return name, decoded(content, name)


@checked
def read_address_list(source: str | PathLike[str]) -> Network:
    """Read an address list, as people keep it in a spreadsheet, as a network: devices with their interfaces and
    addresses, hosts with their ports and gateways; tables of VLANs, of ports and of cables too, where it has some.
    Trunks and routes are not in such a sheet. `read_sheet` also says what was taken to be what.

    Args:
        source: a path, or the text itself (a string with a newline in it): values separated by commas, semicolons or
            tabs, Markdown tables, or (as a path) a workbook, .xlsx; the heads (device, host, interface, VLAN, address,
            prefix or mask, gateway, switch port) stand in any order.

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
    return read_sheet(source).network


@checked
def read_sheet(source: str | PathLike[str]) -> AddressList:
    """Read an address list as `read_address_list` does, and say what was taken to be what.

    Args:
        source: a path, or the text itself.

    Returns:
        The network; in words what was taken to be what by its name, and what was not read.

    Raises:
        DocumentError: with every problem of the sheet, each with its row and column.

    Example:
        >>> import archipelago
        >>> rows = "device,interface,address,mask,gateway\\nwinch,NIC,10.44.0.2,/24,10.44.0.1\\n"
        >>> archipelago.read_sheet(rows).notes
        ('row 2: host winch is written at unplaced/p1: nothing says where it is plugged in',)
    """
    from archipelago.files.address_list import address_list_of
    from archipelago.files.disk import read_bytes

    if isinstance(source, str) and "\n" in source:
        return address_list_of(source.encode(), "the table")
    return address_list_of(read_bytes(source), str(source))


@checked
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

    return emit(document_of(network))


@checked
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


@checked
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


@checked
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

    return run(network)


@checked
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


@checked
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


@checked
def amend(document: Source | Network, edits: Sequence[Edit]) -> str:
    """A document's text with edits made (those of a finding or an answer); comments and order stay.

    Args:
        document: a path, an open file, the text itself (a string with a newline in it), which reads without errors, or
            a network.
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

    return apply(named_text(document)[1], edits)


@checked
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
