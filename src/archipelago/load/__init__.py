"""A network and what its hosts send each other: what every port carries, and what fills first."""
