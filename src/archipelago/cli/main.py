"""The `archipelago` command: one verb for each step of the job."""

from __future__ import annotations

import gc
import os
import re
import signal
import sys
from argparse import ArgumentParser, Namespace, RawDescriptionHelpFormatter
from collections.abc import Callable
from textwrap import fill, wrap
from typing import Any, NoReturn

import archipelago
from archipelago.cli import out, outages, verbs
from archipelago.errors import ArchipelagoError, CarveError, DesignError, DocumentError

NETWORK = ("network", {"metavar": "NETWORK", "help": "a network document"})
AS = ("linux", "csv", "markdown", "zone")
FORMATS = "linux: a shell script; csv, markdown: the addressing table; zone: a directory of zone files"
JSON = ("--json", {"action": "store_true", "dest": "as_json", "help": "print the answer as JSON"})


def _written(help_text: str, metavar: str, required: bool = True) -> tuple[str, str, dict[str, object]]:
    return ("--output", "-o", {"metavar": metavar, "required": required, "help": help_text})


VERBS: dict[str, tuple[Callable[[Namespace], int], str, list[Any]]] = {
    "demo": (
        verbs.demo,
        "write the demo brief and networks, and run the tour through all the steps",
        [("directory", {"metavar": "DIR", "nargs": "?", "default": "tern-bay", "help": "where the files go"})],
    ),
    "carve": (
        verbs.carve,
        "allocate subnets, from the shell, without a file",
        [
            ("words", {"metavar": "SPACE|NAME=HOSTS", "nargs": "+", "help": "prefixes; NAME[:ID]=HOSTS"}),
            ("--headroom", {"default": "25%", "metavar": "SHARE", "help": "free room, a share of the hosts (25%%)"}),
            ("--gateway", {"default": "first", "metavar": "PLACE", "help": "first, last, +N or -N (--gateway=-2)"}),
            ("--pin", {"action": "append", "default": [], "metavar": "NAME=PREFIX", "help": "a subnet decided"}),
            ("--reserve", {"action": "append", "default": [], "metavar": "PREFIX", "help": "a block not to give out"}),
            ("--by-vlan-id", {"action": "store_true", "help": "make the VLAN id readable where it fits"}),
            _written("an .svg or .png file: the space to scale", "FILE", required=False),
            JSON,
        ],
    ),
    "design": (
        verbs.design,
        "turn a brief into a network, and say what was decided and why",
        [
            ("brief", {"metavar": "BRIEF", "help": "what is needed"}),
            _written("where the network is written", "NETWORK", required=False),
            ("--keep", {"metavar": "OLD-NETWORK", "help": "move nothing that this network holds"}),
            JSON,
        ],
    ),
    "audit": (
        verbs.audit,
        "say what is wrong or risky, worst first, each with its mend",
        [
            NETWORK,
            ("--quick", {"action": "store_true", "help": "the rules alone: neither pairs nor mends are tried"}),
            JSON,
        ],
    ),
    "reach": (
        verbs.reach,
        "say whether a probe gets there and back; if not where, why, and what mends it",
        [
            NETWORK,
            ("source", {"metavar": "FROM", "help": "a host, a device, or DEVICE/INTERFACE"}),
            ("targets", {"metavar": "TO", "nargs": "*", "help": "the same, or an address; several are asked in turn"}),
            ("--in-order", {"action": "store_true", "help": "the usual checks from FROM, one after another"}),
            ("--trace", {"action": "store_true", "help": "list the routers as the TTL uncovers them"}),
            ("--broadcast", {"action": "store_true", "help": "who hears a broadcast of FROM (without TO)"}),
            ("--lease", {"action": "store_true", "help": "how FROM is leased its address (without TO)"}),
            ("--probes", {"type": verbs.probe_count, "default": 5, "metavar": "N", "help": "how many probes at least"}),
            ("--probe", {"default": "icmp", "metavar": "KIND", "help": "what is sent: icmp, tcp/443, udp/53"}),
            ("--family", {"type": int, "choices": (4, 6), "help": "by default IPv4 where both ends have it"}),
            ("--steps", {"action": "store_true", "help": "show every event on a time line"}),
            ("--device", {"metavar": "NAME", "help": "with --steps: only this device or host"}),
            ("--protocol", {"choices": ("arp", "icmp", "tcp", "udp", "dhcp"), "help": "with --steps: only this"}),
            ("--next", {"action": "store_true", "help": "the first event that matters, in full"}),
            ("--after", {"type": verbs.event_number, "metavar": "N", "help": "the next that matters after event N"}),
            ("--frame", {"type": verbs.event_number, "metavar": "N", "help": "event N in full"}),
            ("--from-fault", {"action": "store_true", "help": "with --steps: from the first fault on"}),
            JSON,
        ],
    ),
    "matrix": (
        verbs.matrix,
        "all pairs: what is reached, what is cut off, by what, and what mends it",
        [
            NETWORK,
            ("--family", {"type": int, "choices": (4, 6), "help": "by default IPv4 where both ends have it"}),
            ("--probe", {"default": "icmp", "metavar": "KIND[,KIND]", "help": "what is sent: icmp, tcp/443, udp/53"}),
            ("--without", {"action": "append", "default": [], "metavar": "PART", "help": "switch a part off"}),
            ("--hosts", {"action": "store_true", "help": "show host by host"}),
            ("--policy", {"action": "store_true", "help": "what the policy allows, and whether it is kept"}),
            ("--csv", {"action": "store_true", "help": "print source,destination,reached for every pair"}),
            ("--output", "-o", {"metavar": "FILE", "help": "draw it: an .svg or .png file"}),
            JSON,
        ],
    ),
    "view": (
        verbs.view,
        "show what one device knows, or all of them side by side",
        [
            NETWORK,
            ("devices", {"metavar": "DEVICE", "nargs": "*", "help": "devices or hosts; default: all devices"}),
            ("--vlan", {"action": "append", "default": [], "metavar": "VLAN", "help": "only this VLAN, by name or id"}),
            ("--port", {"action": "append", "default": [], "metavar": "PORT", "help": "only this port or interface"}),
            ("--host", {"action": "append", "default": [], "metavar": "NAME", "help": "how it sends to each subnet"}),
            ("--gateways", {"action": "store_true", "help": "all gateways and all static routes of the network"}),
            ("--policy", {"action": "store_true", "help": "what each VLAN may begin, and with whom"}),
            ("--leases", {"action": "store_true", "help": "what hosts are leased, by whom; who gets nothing, and why"}),
            ("--redundancy", {"action": "store_true", "help": "the spanning tree; who is active in shared gateways"}),
            ("--after", {"metavar": "FROM,TO", "help": "probe first, then show ARP and MAC tables too"}),
            ("--table", {"choices": ("csv", "markdown"), "help": "print the whole addressing table"}),
            JSON,
        ],
    ),
    "mend": (
        verbs.mend,
        "apply the mends of the audit's findings, audit again, show what changed",
        [
            NETWORK,
            _written("where the mended network is written", "NEW"),
            ("--only", {"action": "append", "default": [], "metavar": "KIND@DEVICE", "help": "only these"}),
            JSON,
        ],
    ),
    "export": (
        verbs.export,
        "write the network in an open format",
        [
            NETWORK,
            ("--as", {"dest": "format", "choices": AS, "required": True, "help": FORMATS}),
            _written("where it is written", "FILE"),
        ],
    ),
    "import": (
        verbs.import_table,
        "make a network, or a brief, of an addressing table: device, interface, VLAN, address, mask, gateway, port",
        [
            ("table", {"metavar": "TABLE", "help": "comma-, semicolon- or tab-separated values, or Markdown"}),
            _written("where the document is written", "DOCUMENT"),
            ("--brief", {"action": "store_true", "help": "a brief to design from, instead of a network"}),
        ],
    ),
    "rehearse": (
        verbs.rehearse,
        "build the network in a real kernel, send real probes, show its answers beside ours",
        [
            NETWORK,
            ("--from", {"dest": "sources", "action": "append", "default": [], "metavar": "HOST", "help": "from it"}),
            ("--to", {"dest": "targets", "action": "append", "default": [], "metavar": "HOST", "help": "to it"}),
            ("--probe", {"default": "icmp", "metavar": "KIND", "help": "what is sent: icmp, tcp/443, udp/53"}),
            ("--seconds", {"type": verbs.seconds, "default": 300.0, "metavar": "N", "help": "the longest (300)"}),
            JSON,
        ],
    ),
    "outages": (
        outages.outages,
        "break every part in turn, or one over time: what is lost, what takes over, what would help",
        [
            NETWORK,
            ("--double", {"action": "store_true", "help": "every two parts broken together"}),
            ("--workers", {"type": int, "metavar": "N", "help": "with --double: so many processes, through Dask"}),
            ("--scheduler", {"metavar": "ADDRESS", "help": "with --double: a Dask cluster that exists"}),
            ("--resume", {"metavar": "FILE", "help": "with --double: keep there what is done, and go on from it"}),
            ("--quick", {"action": "store_true", "help": "do not look for what would help"}),
            ("--output", "-o", {"metavar": "FILE", "help": "draw it: an .svg or .png file"}),
            ("--break", {"dest": "part", "metavar": "PART", "help": "instead, this part over time"}),
            ("--from", {"dest": "source", "metavar": "FROM", "help": "with --break: who probes"}),
            ("--to", {"dest": "target", "metavar": "TO", "help": "with --break: whom"}),
            ("--restore", {"type": verbs.seconds, "metavar": "SECONDS", "help": "the part is back after that long"}),
            ("--every", {"type": verbs.seconds, "default": 0.1, "metavar": "SECONDS", "help": "between probes (0.1)"}),
            ("--probe", {"default": "icmp", "metavar": "KIND", "help": "what is sent: icmp, tcp/443, udp/53"}),
            ("--orderly", {"action": "store_true", "help": "shut it down in order: who is active says goodbye"}),
            ("--family", {"type": int, "choices": (4, 6), "help": "by default IPv4 where both ends have it"}),
            JSON,
        ],
    ),
    "draw": (
        verbs.draw,
        "draw the diagram, with what is wrong marked where it stands",
        [
            NETWORK,
            _written("an .svg or .png file", "FILE"),
            ("--way", {"metavar": "FROM,TO", "help": "draw the way of a probe and of its answer, and where it stops"}),
        ],
    ),
    "schema": (
        verbs.schema,
        "print the JSON Schema of a document, for editors",
        [
            ("kind", {"metavar": "network|brief", "choices": ("network", "brief"), "help": "which document"}),
            _written("where it is written; by default it is printed", "FILE", required=False),
        ],
    ),
    "completion": (
        verbs.completion,
        "print what makes a shell complete verbs, options, hosts and devices",
        [("shell", {"choices": ("bash", "zsh", "fish"), "help": "which shell"})],
    ),
}  # fmt: skip
EXAMPLES: dict[str, list[str]] = {
    "demo": ["", "tern-bay"],
    "carve": ["10.44.0.0/20 tickets=45 crew=110", "10.44.0.0/20 crew:220=110 --pin crew=10.44.2.0/24"],
    "design": ["brief.yaml", "brief.yaml -o network.yaml", "brief.yaml --keep network.yaml -o new.yaml"],
    "audit": ["network.yaml", "network.yaml --quick", "network.yaml --json"],
    "reach": [
        "network.yaml kiosk-a mess",
        "network.yaml kiosk-a --in-order",
        "network.yaml kiosk-a outside --trace",
        "network.yaml kiosk-a lamp --from-fault",
        "network.yaml lounge-1 --lease",
    ],
    "matrix": [
        "network.yaml",
        "network.yaml --without landing/p2",
        "network.yaml -o matrix.svg",
        "network.yaml --policy",
    ],
    "view": [
        "network.yaml landing",
        "network.yaml landing hall",
        "network.yaml --gateways",
        "network.yaml --leases",
        "network.yaml --redundancy",
        "network.yaml --vlan crew",
    ],
    "mend": ["network.yaml -o mended.yaml", "network.yaml -o mended.yaml --only gateway-missing@kiosk-a"],
    "export": [
        "network.yaml --as linux -o network.sh",
        "network.yaml --as csv -o addresses.csv",
        "network.yaml --as zone -o zones",
    ],
    "import": ["addresses.csv -o network.yaml", "addresses.csv --brief -o brief.yaml", "- -o -"],
    "outages": [
        "network.yaml",
        "network.yaml -o hanging.svg",
        "network.yaml --double --workers 2 --resume double.jsonl",
        "network.yaml --break holm --from innkeeper --to purser",
        "network.yaml --break holm --from innkeeper --to purser --restore 20",
    ],
    "rehearse": ["network.yaml", "network.yaml --from kiosk-a --seconds 60"],
    "draw": ["network.yaml -o network.svg", "network.yaml -o way.svg --way purser,lamp"],
    "schema": ["network", "network -o archipelago-network.schema.json"],
    "completion": ["bash >> ~/.bashrc", "zsh >> ~/.zshrc", "fish > ~/.config/fish/completions/archipelago.fish"],
}
"""Calls of each verb, shown in its help."""


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
    verb_parsers = top.add_subparsers(metavar="VERB", required=True)
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


def main() -> None:
    """Run the command. What the user gave wrong ends with one clear message and exit code 2; what nobody foresaw with
    one line, its details in a file, and exit code 3, so that no script takes it for an answer."""
    out.prepare()
    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, _ended)
    gc.disable()  # a quarter of the time of a large network; the process ends soon, and next to nothing is circular
    try:
        try:
            words = parser()
            if "_ARGCOMPLETE" in os.environ:
                from archipelago.cli import complete

                complete.names(words)
            code = run(words.parse_args())
        except SystemExit as ended:  # the parser has said it all: help, the version, or what is wrong with the call
            code = ended.code if isinstance(ended.code, int) else 2
        out.flush()
    except BrokenPipeError:
        out.abandon()
        code = 141
    except KeyboardInterrupt as stop:
        code = 128 + int(stop.args[0] if stop.args else signal.SIGINT)
    except out.Unwritable as error:
        out.abandon()
        out.note(f"the answer cannot be written to standard output: {error}")
        code = 3
    except Exception as error:
        out.note(_unexpected(error))
        code = 3
    out.leave()
    gc.freeze()  # or the interpreter goes through all of it once more before it ends
    sys.exit(code)


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
        if getattr(words, "output", None) == "-":
            sys.stdout = sys.stderr  # the document goes to standard output, the answer beside it
        with out.at_work(words.call.__name__):
            return int(words.call(words))
    except DocumentError as error:
        messages = error.lines()
    except (CarveError, DesignError) as error:
        messages = error.reasons
    except ArchipelagoError as error:
        messages = [str(error)]
    for message in messages:
        out.note(message)
    return 2


if __name__ == "__main__":
    main()
