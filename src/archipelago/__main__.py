"""`python -m archipelago` is the command."""

from archipelago.cli.main import main

main()
