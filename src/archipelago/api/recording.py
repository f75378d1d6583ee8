"""States of a network kept in a git repository, with what was said of them then."""

from __future__ import annotations

from os import PathLike
from typing import TYPE_CHECKING

from archipelago.api.arguments import checked
from archipelago.errors import QueryError

if TYPE_CHECKING:
    from archipelago.files.repository import Record, Records
    from archipelago.model.network import Network


@checked
def record(path: str | PathLike[str], why: str, *, devices: bool = False) -> Record:
    """Record a network document in the git repository of its folder (one is made where there is none), with what the
    audit, the matrix and the expectations say of it.

    Args:
        path: a network document.
        why: the reason, in one line.
        devices: also count the pairs with an address of a device at an end.

    Returns:
        The record; the commit that holds the document already, where one does.

    Raises:
        DocumentError: the document does not read; nothing is recorded.
        QueryError: there is no git, it refuses, or no reason is given.

    Example:
        >>> archipelago.record("network.yaml", "")
        Traceback (most recent call last):
        archipelago.errors.QueryError: why is this state recorded? A line is expected
    """
    from archipelago.api.checking import audit, expectations, matrix
    from archipelago.api.reading import read_network
    from archipelago.files.repository import Repository

    why = " ".join(why.split())
    if not why:
        raise QueryError("why is this state recorded? A line is expected")
    network = read_network(path)
    repository = Repository(path)
    verdicts = expectations(network) if network.expect else ()
    answer = matrix(network, devices=devices)
    beside = answer.beside.devices if answer.beside is not None else None
    said = {
        "Audit": audit(network).headline,
        "Pairs": answer.headline.partition(";")[0],
        "Expectations": f"{sum(not one.broken for one in verdicts)} of {len(verdicts)} hold" if verdicts else "none",
    }
    if beside is not None:
        said["Devices"] = f"{beside.reached:,} of {beside.counted:,} pairs of devices' addresses reached"
    repository.make()
    repository.keep(why, said)
    return repository.every()[0]


@checked
def records(path: str | PathLike[str]) -> Records:
    """What was recorded of a network document, the latest first.

    Args:
        path: the document.

    Returns:
        The records.

    Raises:
        QueryError: there is no git.

    Example:
        >>> archipelago.records("a-folder-that-is-not-there/network.yaml")
        Traceback (most recent call last):
        archipelago.errors.QueryError: 'a-folder-that-is-not-there/network.yaml' is in no folder; a record is of a file
    """
    from archipelago.files.repository import Records, Repository

    return Records(Repository(path).every())


@checked
def recorded(path: str | PathLike[str], name: str) -> Network:
    """A network as it was recorded.

    Args:
        path: the document.
        name: the record, as `records` names it, or as git does.

    Returns:
        The network.

    Raises:
        QueryError: there is no such record.
        DocumentError: what was recorded does not read.

    Example:
        >>> archipelago.recorded("a-folder-that-is-not-there/network.yaml", "HEAD")
        Traceback (most recent call last):
        archipelago.errors.QueryError: 'a-folder-that-is-not-there/network.yaml' is in no folder; a record is of a file
    """
    from archipelago.files.network import network_from
    from archipelago.files.repository import Repository
    from archipelago.files.tree import parse

    return network_from(parse(Repository(path).text(name), f"{path} as recorded in {name}"))


@checked
def restore(path: str | PathLike[str], name: str) -> Network:
    """Write a network document as it was recorded.

    Args:
        path: the document.
        name: the record.

    Returns:
        The network, read again from what was written.

    Raises:
        QueryError: there is no such record, or the document has changes that are not recorded.
        DocumentError: what was recorded does not read; nothing is written.

    Example:
        >>> archipelago.restore("a-folder-that-is-not-there/network.yaml", "HEAD")
        Traceback (most recent call last):
        archipelago.errors.QueryError: 'a-folder-that-is-not-there/network.yaml' is in no folder; a record is of a file
    """
    from archipelago.api.reading import read_network
    from archipelago.files.disk import write_whole
    from archipelago.files.repository import Repository

    repository = Repository(path)
    text = repository.text(name)
    wanted = recorded(path, name)
    if repository.file.exists():
        now = repository.file.read_bytes()
        if now != text and not repository.is_recorded():
            raise QueryError(f"{path} has changes that are not recorded; record them first")
    write_whole(path, text)
    restored = read_network(path)
    if restored != wanted:
        raise QueryError(f"{path} was written, but does not read as it was recorded in {name}")
    return restored
