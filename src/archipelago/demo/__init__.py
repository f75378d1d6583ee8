"""The demo's data: the ferry line of Tern Bay."""
