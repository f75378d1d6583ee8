"""A network and a probe in, events out: every frame moves, on one clock, deterministically."""
