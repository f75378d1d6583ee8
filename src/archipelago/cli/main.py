"""The `archipelago` command: one verb for each step of the job."""

from __future__ import annotations

import gc
import os
import re
import signal
import sys
from argparse import ArgumentParser, Namespace, RawDescriptionHelpFormatter
from textwrap import fill, wrap
from typing import NoReturn

import archipelago
from archipelago.cli import out
from archipelago.cli.calls import EXAMPLES, VERBS
from archipelago.cli.together import check
from archipelago.errors import ArchipelagoError, CarveError, DesignError, DocumentError, OutputError, QueryError


class _Parser(ArgumentParser):
    """A parser that says which verb or option may have been meant, and shows examples as they are written."""

    def error(self, message: str) -> NoReturn:
        """End with one line and the code 2."""
        from difflib import get_close_matches

        verb = re.search(r"invalid choice: '([^']*)'", message)
        option = re.search(r"unrecognized arguments: (--?[\w-]+)", message)
        known = [*VERBS] if verb and "VERB" in message else [*self._option_string_actions] if option else []
        if option:
            known = sorted({name for _, _, arguments in VERBS.values() for *names, _ in arguments for name in names})
        word = (verb or option or [None, ""])[1]
        elsewhere = option is not None and word in known
        close = get_close_matches(word, known, n=1) if word and not elsewhere else []
        if elsewhere:
            message += "; another verb has it, this one has not: see its --help"
        if verb and "VERB" in message:
            message = f"there is no verb '{word}'; there are: {', '.join(VERBS)}"
        super().error(message + (f"; did you mean '{close[0]}'?" if close else ""))


def parser() -> ArgumentParser:
    """The words that the command takes."""
    top = _Parser(
        "archipelago",
        description="Plan the gateways between VLANs, and know which host will reach which before touching a device.",
        epilog="Exit codes: 0 the answer is yes, 1 the answer is no, 2 the input or the call is wrong, 3 an unexpected "
        "error (told in one line, the details in a file) or nowhere to write the answer to, 130 stopped, 129 or 143 "
        "ended by a signal, 141 the reader of the answer is gone.",
    )
    top.add_argument("--version", action="version", version=f"archipelago {archipelago.__version__}")
    verb_parsers = top.add_subparsers(metavar="VERB", required=True, dest="verb")
    for name, (call, text, arguments) in VERBS.items():
        calls = [wrap(f"archipelago {name} {example}", 76, break_on_hyphens=False) for example in EXAMPLES[name]]
        shown = "examples:\n" + "\n".join("  " + " \\\n    ".join(call) for call in calls)
        verb_parser = verb_parsers.add_parser(
            name,
            help=text,
            description=fill(text[0].upper() + text[1:] + ".", 78),
            epilog=shown,
            formatter_class=RawDescriptionHelpFormatter,
        )
        verb_parser.set_defaults(call=call)
        for *names, settings in arguments:
            verb_parser.add_argument(*names, **settings)
        verb_parser.add_argument("--plain", action="store_true", help="as where it is piped: no folding, no emphasis")
    return top


SAME_AGAIN = ("mend", "change")
"""The verbs that may write the document that they read: it is that one still."""


def main() -> None:
    """Run the command. What the user gave wrong ends with one clear message and exit code 2; what nobody foresaw with
    one line, its details in a file, and exit code 3, so that no script takes it for an answer."""
    out.prepare()
    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, _ended)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    gc.disable()  # a quarter of the time of a large network; the process ends soon, and next to nothing is circular
    try:
        try:
            words = parser()
            if "_ARGCOMPLETE" in os.environ:
                from archipelago.cli import complete

                complete.names(words)
            code = run(_understood(words))
        except SystemExit as ended:  # the parser has said it all: help, the version, or what is wrong with the call
            code = ended.code if isinstance(ended.code, int) else 2
        out.flush()
    except BrokenPipeError:
        out.abandon()
        code = 141
    except KeyboardInterrupt as stop:
        code = 128 + int(stop.args[0] if stop.args else signal.SIGINT)
    except OutputError as error:
        out.abandon()
        out.note(f"the answer cannot be written to standard output: {error}")
        code = 3
    except Exception as error:
        out.note(_unexpected(error))
        code = 3
    out.leave()
    gc.freeze()  # or the interpreter goes through all of it once more before it ends
    sys.exit(code)


def _understood(words: ArgumentParser) -> Namespace:
    """The call as it was meant: ends that stand behind options are ends, too."""
    call, rest = words.parse_known_args()
    if rest and call.verb == "reach" and not call.targets and not any(word.startswith("-") for word in rest):
        ends = rest if call.source is None else [call.source, *rest]
        call.source, call.targets = ends[0], ends[1:]
    elif rest:
        words.parse_args()  # which says what is wrong
    return call


def _ended(number: int, frame: object) -> None:
    """Ended from outside is as good as stopped by the user: nothing is left behind."""
    raise KeyboardInterrupt(number)


def _unexpected(error: Exception) -> str:
    """One line about an error that nobody foresaw, with the place of its details."""
    import tempfile
    import traceback

    told = " ".join(str(error).split())[:120]
    line = f"archipelago {' '.join(sys.argv[1:])[:120]}: an unexpected error, {type(error).__name__}: {told}"
    try:
        handle, name = tempfile.mkstemp(prefix="archipelago-error-", suffix=".txt")
        with os.fdopen(handle, "w", errors="backslashreplace") as stream:
            stream.write(f"archipelago {archipelago.__version__}, Python {sys.version}\n{sys.argv}\n")
            traceback.print_exception(error, file=stream)
    except OSError:
        return f"{line}; its details could not be written anywhere"
    return f"{line}; the details are in {name}: please report it with them"


def run(words: Namespace) -> int:
    """Call the verb; its exit code, or 2 with the reasons on standard error."""
    try:
        if words.plain:
            out.plainly()
        check(words, sys.argv[1:])
        _check_output(words)
        if getattr(words, "output", None) == "-":
            sys.stdout = sys.stderr  # the document goes to standard output, the answer beside it
        with out.at_work(words.call.__name__):
            return int(words.call(words))
    except DocumentError as error:
        messages = error.lines()
    except (CarveError, DesignError) as error:
        messages = error.reasons
    except OutputError:
        raise
    except ArchipelagoError as error:
        messages = [str(error)]
    for message in messages:
        out.note(message)
    return 2


def _check_output(words: Namespace) -> None:
    """What is written must not take the place of what is read, but where it is the same document, changed.

    Raises:
        QueryError: it would.
    """
    output = getattr(words, "output", None)
    if output in (None, "-") or words.verb in SAME_AGAIN:
        return
    for name in ("brief", "network", "old", "new", "table", "recipe"):
        given = getattr(words, name, None)
        if isinstance(given, str) and given != "-" and _is_one_file(given, output):
            raise QueryError(f"-o {output} would take the place of what is read: give another name")


def _is_one_file(one: str, other: str) -> bool:
    try:
        return os.path.samefile(one, other)
    except OSError:
        return False


if __name__ == "__main__":
    main()
