"""Single mistakes in a working network: the audit finds each, `reach` names it, and its mend restores all pairs."""

from __future__ import annotations

from itertools import permutations
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from archipelago import amend, network_text
from archipelago.audit.registry import run
from archipelago.files.network import network_from
from archipelago.files.tree import parse
from archipelago.knowledge.index import index_network
from archipelago.simulation.reach import reach
from makers import designed, mistakes, mixed_brief, trunked_brief
from slips_referee import answers, judged, slips, sound


def read(text: str):
    return network_from(parse(text.encode(), "bay.yaml"))


def unreached(network):
    view = index_network(network)
    nodes = view.knowledge.nodes
    answers = {(a, b): reach(view, nodes[a], nodes[b]) for a, b in permutations(network.hosts, 2)}
    return {pair: answer for pair, answer in answers.items() if not answer.reached}


@pytest.mark.long
@given(random=st.randoms(use_true_random=False), kind=st.sampled_from([trunked_brief, mixed_brief]))
@settings(max_examples=12)
def test_every_mistake_is_found_named_and_mended(random, kind):
    network = designed(kind(random))
    text = network_text(network)
    for what, edits, kinds in mistakes(network, random):
        wrong = amend(text, edits)
        network = read(wrong)
        broken = unreached(network)
        findings = run(index_network(network))
        assert {finding.kind for finding in findings} <= kinds, (what, findings)
        if broken:
            assert findings, what
        for pair, answer in broken.items():
            assert pair[::-1] in broken, (what, pair)  # without filters, reaching is symmetric
            assert answer.cause in kinds, (what, pair, answer.says)
            assert answer.at and answer.mend and answer.direction in ("out", "back")
        if broken:
            answer = next(iter(broken.values()))
            assert answer.edits, (what, answer.says)
            assert not unreached(read(amend(wrong, answer.edits))), (what, answer.mend)
        mended = read(amend(wrong, [edit for finding in findings for edit in finding.edits]))
        assert run(index_network(mended)) == (), what


@pytest.mark.parametrize("seed", [21, 37, 156, 291, 303, 551])
def test_single_mistakes_of_every_key_are_named_and_mended(seed):
    network = sound(seed)
    before = answers(network)
    results = [judged(before, slip) for slip, _ in zip(slips(network, Random(seed)), range(3), strict=False)]
    assert results and all(result.named and result.whole and not result.green for result in results)
