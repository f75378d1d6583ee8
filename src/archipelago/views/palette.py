"""The colours of all pictures, by what they mean. None tells anything alone: words, marks or a hatch go with it."""

from __future__ import annotations

INK, FAINT, PAPER = "#1f2d33", "#5b6a70", "#ffffff"
"""Text, what is beside it, and what it is on."""
HAIRLINE, GRID, FRAME = "#c9d1d4", "#dde3e5", "#33474f"
"""Thin lines: between parts, behind figures, around groups."""
WRONG = "#a3271a"
"""What is wrong, in words and marks."""
FILLS = ("#bfdcd0", "#f3d3a1", "#c9cdec", "#efc2c4", "#d3e3a2", "#bddcea", "#e3c5e3", "#dccfba", "#f0e08f", "#c4d0d4")
"""Things that only differ, such as VLANs; a pattern goes with each."""
NOTHING = "#e8e8e8"
"""What is in no VLAN."""

REACHED, PARTLY, CUT_OFF, KEPT_APART = "#dcebe2", "#e0b04c", "#8f2d1b", "#d3d6e4"
"""Pairs of hosts."""
ANSWERED, LOST = "#bfdcd0", "#efc2c4"
"""Probes."""
ALLOWED, ALLOWED_IN_PART, FORBIDDEN = "#cfe6d8", "#e9f3d6", "#eef0f1"
"""What a policy says."""
WRONGLY_OPEN, WRONGLY_CLOSED, WRONGLY_BOTH, OPEN_FOR_ANSWERS = "#efb3a8", "#f3d3a1", "#d9a0c4", "#f4f0d8"
"""What a network does otherwise."""
RESERVED, FREE = "#b9bfc2", "#f4f6f7"
"""Address space."""
FIRST, OTHER = "#2f6f64", "#b9c6c3"
"""The best of several, and the others."""
HANGS = ("#ffffff", "#f6ecd4", "#f3d6a0", "#eab27c", "#df8463")
"""How much hangs on a part: nothing, a little, more, most."""

EDGES = {"router": "#1f4e5f", "l3switch": "#2f6f64", "switch": "#55626b"}
HEADS = {"router": "#e3eef1", "l3switch": "#e2f0ec", "switch": "#eef0f1"}
"""Cards of devices."""
WAY = {"out": "#2b6cb0", "back": "#b7791f"}
"""The two directions of a way; the labels of its cables say which is which."""
