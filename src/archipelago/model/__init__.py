"""What a network and a brief are: plain frozen data with no behaviour beyond their own invariants."""
