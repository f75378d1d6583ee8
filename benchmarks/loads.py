"""What carrying traffic costs beside deciding all pairs: `python benchmarks/loads.py [HOSTS VLANS DEVICES]`.

By default 100,000 hosts in 1,000 VLANs on 100 routing devices, every host sending by the rule of thumb.
"""

from __future__ import annotations

import sys

from estate import estate
from measure import in_turns, report

from archipelago import traffic
from archipelago.reachability.matrix import matrix


def main() -> None:
    hosts, vlans, devices = ([int(word) for word in sys.argv[1:]] + [100_000, 1_000, 100][len(sys.argv) - 1 :])[:3]
    network = estate(devices, vlans, hosts)
    ours, theirs, ratio = in_turns(lambda: traffic(network), lambda: matrix(network, causes=False), rounds=3)
    report(f"{hosts:,} hosts in {vlans:,} VLANs: traffic / one run of all pairs", ours, theirs, ratio, "at most 2")


if __name__ == "__main__":
    main()
