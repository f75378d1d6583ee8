"""Measuring side by side: what is compared runs in turns in one process, and only ratios are claimed."""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from typing import Any


def seconds(call: Callable[[], object], repeat: int = 1) -> float:
    start = time.perf_counter()
    for _ in range(repeat):
        call()
    return (time.perf_counter() - start) / repeat


def timed(call: Callable[[Any], Any], argument: Any) -> tuple[float, Any]:
    """Seconds that one call takes, and its result."""
    start = time.perf_counter()
    result = call(argument)
    return time.perf_counter() - start, result


def in_turns(ours: Callable[[], object], theirs: Callable[[], object], rounds: int = 5) -> tuple[float, float, float]:
    """Median seconds of each, and the median of the ratios round by round."""
    pairs = [(seconds(ours), seconds(theirs)) for _ in range(rounds)]
    return (
        statistics.median(a for a, _ in pairs),
        statistics.median(b for _, b in pairs),
        statistics.median(a / b for a, b in pairs),
    )


def process(*words: str) -> Callable[[], object]:
    """A whole Python process as something to be timed."""
    return lambda: subprocess.run([sys.executable, *words], check=False, capture_output=True)


def report(name: str, ours: float, theirs: float, ratio: float, bound: str) -> None:
    print(f"{name:<58} {ours * 1e3:10.3f} ms  {theirs * 1e3:10.3f} ms  ratio {ratio:8.2f}  bound {bound}")
