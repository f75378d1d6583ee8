"""A policy of 1,000 lines, designed, enforced and proved, against reading its brief. Run: python benchmarks/policy.py

100 VLANs with 3 hosts each, on one layer 3 switch. At most 10 times the reading.
"""

from __future__ import annotations

from random import Random

from measure import seconds

import archipelago

VLANS = 100
LINES = 1_000


def brief_with_policy() -> str:
    """The brief, as text."""
    random = Random(1)
    names = [f"v{number}" for number in range(VLANS)]
    vlans = "".join(f"  {name}: {{id: {100 + at}, hosts: 20}}\n" for at, name in enumerate(names))
    hosts = "".join(
        f"  h{at}-{number}: {{vlan: {name}, at: s{at % 10}/p{at * 3 + number}}}\n"
        for at, name in enumerate(names)
        for number in range(3)
    )
    devices = "  core: {kind: l3switch}\n" + "".join(f"  s{number}: {{kind: switch}}\n" for number in range(10))
    cables = "".join(f"  - core/p{number} ~ s{number}/up\n" for number in range(10))
    words = ["any", "tcp/443", "udp/53", "icmp"]
    rules = "".join(
        f"    - {{from: {random.choice(names)}, to: {random.choice(names)}, "
        f"{random.choice(['may', 'may-not'])}: {random.choice(words)}}}\n"
        for _ in range(LINES)
    )
    return (
        f"format: archipelago-brief/1\nspace: 10.0.0.0/16\nvlans:\n{vlans}devices:\n{devices}gateways:\n"
        f"  - {{for: [{', '.join(names)}], at: core}}\nhosts:\n{hosts}cables:\n{cables}"
        f"policy:\n  rules:\n{rules}  otherwise: any\n"
    )


def main() -> None:
    text = brief_with_policy()
    brief = archipelago.read_brief(text)
    made = archipelago.design(brief)
    lines = sum(len(one.rules) for device in made.network.devices.values() for one in device.filters.values())
    reading = seconds(lambda: archipelago.read_brief(text))
    designing = seconds(lambda: archipelago.design(brief))
    print(f"{LINES:,} lines of policy, {lines:,} lines of filters")
    print(f"  reading the brief     {reading:6.2f} s")
    print(f"  designed and proved   {designing:6.2f} s  {designing / reading:4.1f} times (bound 10)")


if __name__ == "__main__":
    main()
