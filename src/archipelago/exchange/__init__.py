"""Open formats out and in: the operating system's own network commands, and a real kernel to run them."""
