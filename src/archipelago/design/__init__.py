"""Brief to network: one module for each decision, in the order they are taken."""
