"""What is left of a space once blocks are taken out of it, kept as aligned power-of-two blocks."""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Iterator

from archipelago.addressing.values import WIDTHS, Prefix


def gaps(spaces: Iterable[Prefix], taken: Iterable[Prefix]) -> list[Prefix]:
    """The free blocks of one family's `spaces` once `taken` is removed: aligned, as large as possible, in order."""
    edges: list[tuple[int, int, int]] = []
    version = 4
    for space in spaces:
        version = space.version
        edges += [(space.value, 1, 0), (space.last + 1, -1, 0)]
    for block in taken:
        if block.version == version:
            edges += [(block.value, 0, 1), (block.last + 1, 0, -1)]
    edges.sort()
    free: list[Prefix] = []
    inside = used = 0
    start = 0
    for place, in_space, in_use in edges:
        if inside and not used and place > start:
            free.extend(aligned(version, start, place - 1))
        inside += in_space
        used += in_use
        start = place
    return free


def aligned(version: int, first: int, last: int) -> Iterator[Prefix]:
    """The fewest aligned blocks that make up the range from `first` to `last`, both included."""
    width = WIDTHS[version]
    while first <= last:
        bits = min((first & -first).bit_length() - 1 if first else width, (last - first + 1).bit_length() - 1)
        yield Prefix(version, first, width - bits)
        first += 1 << bits


class FreeSpace:
    """The free blocks of one family, from which subnets are taken best fit first, lowest address first."""

    def __init__(self, version: int, blocks: Iterable[Prefix]) -> None:
        self.version = version
        self._width = WIDTHS[version]
        self._starts: list[list[int]] = [[] for _ in range(self._width + 1)]
        for block in blocks:
            self._starts[block.length].append(block.value)
        for starts in self._starts:
            heapq.heapify(starts)

    def take(self, length: int) -> Prefix | None:
        """A block of that prefix length out of the smallest free block that holds it; None when none does."""
        for free_length in range(length, -1, -1):
            if self._starts[free_length]:
                value = heapq.heappop(self._starts[free_length])
                for upper in range(free_length + 1, length + 1):
                    heapq.heappush(self._starts[upper], value + (1 << (self._width - upper)))
                return Prefix(self.version, value, length)
        return None

    def take_exactly(self, wanted: Prefix) -> bool:
        """Take that very block if it is free, whole."""
        for length in range(wanted.length, -1, -1):
            holder = wanted.supernet(length)
            starts = self._starts[length]
            if starts and holder.value in starts:
                starts.remove(holder.value)
                heapq.heapify(starts)
                for upper in range(length + 1, wanted.length + 1):
                    half = 1 << (self._width - upper)
                    kept = wanted.supernet(upper).value ^ half
                    heapq.heappush(self._starts[upper], kept)
                return True
        return False

    def largest(self) -> Prefix | None:
        """The largest free block, lowest address first; None when nothing is free."""
        for length, starts in enumerate(self._starts):
            if starts:
                return Prefix(self.version, starts[0], length)
        return None
