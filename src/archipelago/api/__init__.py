"""The public calls, by what they are for. The package's own `__init__` hands them out; nothing else lives here."""
