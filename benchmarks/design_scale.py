"""Design and audit against the reading of their files, at three sizes. Run: python benchmarks/design_scale.py"""

from __future__ import annotations

import math
import statistics
import tempfile
from pathlib import Path

from measure import timed
from networks import brief_text

import archipelago

SIZES = ((50, 250, 1250), (100, 500, 2500), (200, 1000, 5000))
"""Devices, VLANs, hosts."""


def main() -> None:
    print("devices  VLANs  hosts   read brief   design  ratio   read network   audit  ratio   (seconds; bound 10)")
    taken = []
    with tempfile.TemporaryDirectory() as directory:
        for size in SIZES:
            brief_file, network_file = Path(directory) / "brief.yaml", Path(directory) / "network.yaml"
            brief_file.write_text(brief_text(*size))
            rounds = []
            for _ in range(3):
                read, brief = timed(archipelago.read_brief, brief_file)
                design, plan = timed(archipelago.design, brief)
                archipelago.write_network(plan.network, network_file)
                read_network, network = timed(archipelago.read_network, network_file)
                audit, findings = timed(archipelago.audit, network)
                assert findings == ()
                rounds.append((read, design, design / read, read_network, audit, audit / read_network))
            middle = [statistics.median(column) for column in zip(*rounds, strict=True)]
            taken.append((sum(size), middle[1], middle[4]))
            print(
                f"{size[0]:7}  {size[1]:5}  {size[2]:5}   {middle[0]:10.2f}  {middle[1]:7.2f}  {middle[2]:5.1f}   "
                f"{middle[3]:12.2f}  {middle[4]:6.2f}  {middle[5]:5.1f}"
            )
    (small, *first), (large, *last) = taken[0], taken[-1]
    ideal = (large * math.log(large)) / (small * math.log(small))
    for name, a, b in zip(("design", "audit"), first, last, strict=True):
        print(f"{name}: {b / a:.1f} times the time at {large / small:.0f} times the size; n log n would be {ideal:.1f}")


if __name__ == "__main__":
    main()
