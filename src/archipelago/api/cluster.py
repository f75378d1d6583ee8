"""Double failures over several processes or machines, through Dask."""

from __future__ import annotations

import atexit
import logging
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from logging import CRITICAL
from typing import Any

from archipelago.errors import QueryError
from archipelago.failures.double import Piece, Row, Work, rows_of
from archipelago.progress import tell

PATIENCE = 5
"""How many seconds a scheduler is waited for."""


@contextmanager
def cluster(workers: int | None, scheduler: str | None) -> Iterator[Any]:
    """A Dask client: of a cluster that exists, or of one made here for as long as it is used.

    Args:
        workers: how many processes are started here.
        scheduler: the address of a cluster's scheduler instead, such as `tcp://10.44.9.9:8786`; archipelago must be
            installed where its workers are.

    Raises:
        QueryError: Dask is not installed, or there is no scheduler at that address.
    """
    try:
        from distributed import Client, LocalCluster
    except ImportError:
        raise QueryError("several workers need Dask: pip install 'archipelago[cluster]'") from None
    logging.getLogger("distributed").setLevel(logging.ERROR)
    if scheduler is not None:
        try:
            client = Client(scheduler, timeout=PATIENCE)
        except (OSError, ValueError):
            raise QueryError(f"there is no scheduler at '{scheduler}', or none within {PATIENCE} s") from None
        with client:
            yield client
        return
    parts: list[Any] = []
    tell("starting the workers")
    try:
        quiet = {"dashboard_address": None, "silence_logs": CRITICAL}
        parts.append(LocalCluster(n_workers=workers, threads_per_worker=1, **quiet))
        parts.append(Client(parts[0]))
        yield parts[1]
    except Exception as error:
        stop = _stopped(error)
        if stop is None:
            raise
        raise stop from None
    finally:
        _close(parts[::-1])


def _stopped(error: BaseException | None) -> KeyboardInterrupt | None:
    """The stop that an error came of: a cluster that is stopped as it begins falls over its own workers."""
    while error is not None and not isinstance(error, KeyboardInterrupt):
        error = error.__context__
    return error


def _close(parts: Sequence[Any]) -> None:
    """Close a client and its cluster. What they say of each other as they go concerns nobody."""
    logging.disable(CRITICAL)
    if not parts:  # stopped as it began: what the library does as the process ends falls over what is not there
        with suppress(ImportError, AttributeError):
            from distributed.deploy import spec

            atexit.unregister(spec.close_clusters)
    try:
        for part in parts:
            with suppress(Exception):
                part.close()
    finally:
        logging.disable(logging.NOTSET)


def spread(client: Any, work: Work, pieces: Sequence[Piece]) -> Iterator[tuple[Piece, list[Row]]]:
    """Have pieces of work done by a cluster's workers; each comes back as soon as it is done."""
    from distributed import as_completed

    known = client.scatter(work, broadcast=True)
    waiting = {client.submit(rows_of, known, piece, pure=False): piece for piece in pieces}
    for done, rows in as_completed(waiting, with_results=True):
        yield waiting.pop(done), rows
