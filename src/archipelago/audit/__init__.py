"""Network to findings: one small function for each mistake, found by registration."""
