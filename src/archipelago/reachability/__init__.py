"""All pairs at once, in arrays over classes of hosts; exact, and never pair by pair."""
