"""What breaking every part costs: all single failures of 300 access switches, 900 cables and 100,000 hosts beside one
run of all pairs; each of many double failures beside each of half as many; two processes beside one; what is sent to a
worker beside the network.

python benchmarks/outages.py [HOSTS [SWITCHES [VLANS]]]
"""

from __future__ import annotations

import pickle
import sys

from measure import report, seconds
from redundancy import campus

import archipelago
from archipelago.failures.double import Work, rows_of, work_of
from archipelago.reachability.matrix import matrix


def single(hosts: int, switches: int, vlans: int) -> None:
    """All single failures, as times of one run."""
    network = campus(hosts, switches, vlans, 3)
    one = seconds(lambda: matrix(network, causes=False).reached)
    every = seconds(lambda: archipelago.outages(network, additions=False))
    report("all single failures; one run of all pairs", every, one, every / one, "100")


def double(hosts: int, switches: int, vlans: int) -> None:
    """Double failures of 60 devices and about 150 cables: each costs the same, however many they are."""
    network = campus(hosts, switches, vlans, 3)
    work = work_of(network)
    rows_of(work, work.pieces()[0])  # what a worker works out once
    few, many = _each(work, 12), _each(work, 24)
    report("each of 1,400 double failures; of 700", many, few, many / few, "1.2")
    sent, whole = len(pickle.dumps(work)), len(pickle.dumps(network))
    print(f"sent to a worker: {sent / 1e6:.2f} MB; the network: {whole / 1e6:.2f} MB")


def _each(work: Work, pieces: int) -> float:
    """Seconds for each double failure of the first pieces of work."""
    chosen = work.pieces()[:pieces]
    taken = seconds(lambda: [rows_of(work, piece) for piece in chosen])
    return taken / sum(len(piece.second) for piece in chosen)


def two_workers() -> None:
    """A job of half a minute in one process, and over two, which have to be started."""
    network = campus(2_000, 20, 20, 2)
    one = seconds(lambda: archipelago.outages(network, double=True))
    two = seconds(lambda: archipelago.outages(network, double=True, workers=2))
    report("double failures in one process; twice the time over two", one, 2 * two, one / two / 2, "0.75 at least")


def main() -> None:
    hosts, switches, vlans = ([int(word) for word in sys.argv[1:]] + [100_000, 300, 200][len(sys.argv) - 1 :])[:3]
    single(hosts, switches, vlans)
    double(6_000, 57, 20)
    two_workers()


if __name__ == "__main__":
    main()
