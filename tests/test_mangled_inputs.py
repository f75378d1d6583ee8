"""Inputs of every kind mangled at random; `mangled_inputs` has the calls, and asks thousands of them."""

from __future__ import annotations

import pytest

from mangled_inputs import KINDS, short
from warm_command import WarmCommand


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("seed", range(30))
def test_every_call_ends_with_an_answer_or_with_words(seed: int, kind: str, command: WarmCommand) -> None:
    assert not short(70_000 + seed, kind, command)
