"""Two states of a network: what differs, what that does, and the steps from one to the other."""
