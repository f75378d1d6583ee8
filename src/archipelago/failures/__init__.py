"""What every failure does: each part of a network broken, alone or with another, and what would make that harmless."""
