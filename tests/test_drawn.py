"""Networks as people draw them by hand: sound ones have no error and no risk, and everybody reaches whom they should."""

from __future__ import annotations

from random import Random

import pytest

import archipelago
from drawn import drawn


@pytest.mark.parametrize("seed", range(16))
def test_a_sound_drawing_is_told_as_one(seed):
    network = drawn(Random(seed))
    assert [str(finding) for finding in archipelago.audit(network) if not finding.is_note] == []
    all_pairs = archipelago.matrix(network)
    assert all_pairs, all_pairs.headline
    hosts = [*all_pairs.hosts]
    for source, target in (Random(seed).sample(hosts, 2) for _ in range(3)):
        asked = archipelago.reach(network, source, target)
        assert asked.reached == all_pairs[source, target]
        assert asked.reached or asked.kept_apart
