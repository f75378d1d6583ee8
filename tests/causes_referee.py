"""Single mistakes, and what three views name as their cause: for pairs that are cut off `reach` (one question),
`matrix` (all pairs) and `audit` (the documents) are to name one cause.

python tests/causes_referee.py FIRST-SEED COUNT [drawn]   prints where they differ, then the figures
"""

from __future__ import annotations

import sys
from collections import Counter
from random import Random

import archipelago
from drawn import drawn
from slips_referee import EACH, slips, sound

PAIRS = 3
"""So many pairs are asked about for each mistake, each of another cause where there are several."""


def main() -> None:
    first, count = map(int, sys.argv[1:3])
    figures: Counter[str] = Counter()
    for seed in range(first, first + count):
        network = drawn(Random(seed)) if "drawn" in sys.argv else sound(seed)
        if network is None or not network.hosts:
            continue
        for slip, _ in zip(slips(network, Random(seed)), range(EACH), strict=False):
            matrix = archipelago.matrix(slip.network)
            audited = {(finding.kind, finding.at) for finding in archipelago.audit(slip.network)}
            for group in matrix.groups[:PAIRS]:
                source, target = group.source, group.target
                asked = archipelago.reach(slip.network, source, target)
                cause = group.finding.kind, group.finding.at
                same = (asked.cause, asked.at) == cause
                figures.update(causes=1, matrix_as_reach=same, audit_too=cause in audited)
                if not same or cause not in audited:
                    told = f"matrix {cause}, reach {(asked.cause, asked.at)}, audit {sorted(audited)}"
                    print(seed, slip.how, slip.path, f"{source} to {target}:", told, flush=True)
    print(dict(figures))


if __name__ == "__main__":
    main()
