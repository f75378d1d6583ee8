"""The parts of a graph that hang together, in arrays, against walking it."""

from __future__ import annotations

import subprocess
import sys

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from archipelago.reachability.components import components


def walked(edges: list[tuple[int, int]], size: int) -> list[int]:
    """The component of each node, numbered as they are come upon."""
    near: dict[int, set[int]] = {node: set() for node in range(size)}
    for a, b in edges:
        near[a].add(b)
        near[b].add(a)
    number = [-1] * size
    for node in range(size):
        waiting = [node] if number[node] < 0 else []
        new = max(number) + 1
        while waiting:
            here = waiting.pop()
            if number[here] < 0:
                number[here] = new
                waiting += near[here]
    return number


@given(st.integers(1, 30).flatmap(lambda n: st.tuples(st.just(n), st.lists(st.tuples(*[st.integers(0, n - 1)] * 2)))))
def test_components_are_what_walking_the_graph_finds(graph):
    size, edges = graph
    a, b = (np.array([edge[end] for edge in edges], dtype=np.int64) for end in (0, 1))
    count, number = components(a, b, size)
    assert number.tolist() == walked(edges, size) and count == number.max() + 1


def test_a_long_way_through_nodes_in_any_order_is_one_component():
    order = np.random.default_rng(1).permutation(50_000)
    assert components(order[:-1], order[1:], len(order))[0] == 1
    assert components(order[:0], order[:0], 0)[0] == 0


def test_the_usual_questions_load_no_scipy(tern_bay):
    for words in (["reach", "purser", "mess"], ["audit"], ["matrix"], ["view"]):
        verb, *ends = words
        code = (
            f"import sys; from archipelago.cli.main import main; sys.argv = {['archipelago', verb]!r}"
            f" + [{str(tern_bay / 'network.yaml')!r}] + {ends!r}\n"
            "try: main()\nexcept SystemExit: pass\nprint('scipy' in sys.modules, 'pandas' in sys.modules)"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        assert done.stdout.splitlines()[-1] == "False False", (words, done.stderr)
