"""`python -m archipelago` is the command, and so is the script of that name."""

import signal


def main() -> None:
    """Run the command. Whoever stops it before it is there stops it without a word, as the system does."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    from archipelago.cli.main import main as run

    run()


if __name__ == "__main__":
    main()
