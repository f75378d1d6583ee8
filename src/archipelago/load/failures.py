"""What links carry once a part is broken, part by part."""

from __future__ import annotations

from dataclasses import replace

from archipelago.failures.parts import Part, whole_parts
from archipelago.knowledge.parts import switched_off
from archipelago.load.loading import Loading
from archipelago.load.result import BrokenLoad, Load
from archipelago.progress import steps
from archipelago.reachability.build import change_arrays

NEGLIGIBLE = 1e-6
"""What is less of a rate than this is a matter of rounding."""


def with_failures(loading: Loading) -> Load:
    """What the links carry, and what each single failure does to them: every device, cable and port that leads outside
    broken in turn."""
    load = loading.load()
    parts = whole_parts(loading.plain)
    broken = [_broken(loading, load, part) for part in steps(parts, "carrying traffic past each failure")]
    broken.sort(key=lambda one: (-len(one.filled), -one.share, -one.dropped))
    return replace(load, broken=tuple(broken))


def _broken(loading: Loading, load: Load, part: Part) -> BrokenLoad:
    arrays = change_arrays(loading.arrays, switched_off(loading.arrays.knowledge, [part.name]))
    after = loading.without(arrays)
    before = {link.name for link in load.overfull}
    fullest = after.fullest
    lost = load.arrived - after.arrived
    return BrokenLoad(
        part=part.name,
        fullest=fullest.name if fullest is not None else "",
        share=fullest.share if fullest is not None else 0.0,
        filled=tuple(link.name for link in after.overfull if link.name not in before),
        dropped=lost if lost > NEGLIGIBLE * load.sent else 0.0,
    )
