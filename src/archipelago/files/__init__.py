"""Documents in and out: YAML with positions, checks, error reports, edits. The only room that knows the formats."""
