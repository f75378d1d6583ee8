"""Every verb: what does it, what it is for, and what it is called with."""

from __future__ import annotations

from argparse import Namespace
from collections.abc import Callable
from typing import Any

from archipelago.cli import changing, loading, outages, recording, verbs, weighing
from archipelago.views.formats import ABOUT, FORMATS, TABLES

NETWORK = ("network", {"metavar": "NETWORK", "help": "a network document"})
SHARE: dict[str, Any] = {"type": verbs.share, "metavar": "SHARE"}
SENT: dict[str, Any] = {"default": "icmp", "metavar": "KIND", "help": "what is sent: icmp, icmp/1472, tcp/443, udp/53"}
SEVERAL: dict[str, Any] = {"action": "append", "default": []}
DEVICES = ("--devices", {"action": "store_true", "help": "count devices' addresses, too, beside the hosts"})
SUPPOSED = (
    ("--without", {"action": "append", "default": [], "metavar": "PART", "help": "switch a part off"}),
    (
        "--move",
        {"action": "append", "default": [], "metavar": "HOST=DEVICE/PORT", "help": "plug a host in somewhere else"},
    ),
)
"""What a question supposes to be otherwise."""
ALL = ("--all", {"action": "store_true", "help": "every row of long tables"})
JSON = ("--json", {"action": "store_true", "dest": "as_json", "help": "print the answer as JSON"})


def _written(help_text: str, metavar: str, required: bool = True) -> tuple[str, str, dict[str, object]]:
    return ("--output", "-o", {"metavar": metavar, "required": required, "help": help_text})


VERBS: dict[str, tuple[Callable[[Namespace], int], str, list[Any]]] = {
    "demo": (
        verbs.demo,
        "write the demo's brief and networks, and say in a page what is answered about them; 'tour': step by step",
        [
            ("words", {"metavar": "tour|DIR", "nargs": "*", "help": "the tour; where the files go (tern-bay)"}),
            ("--force", {"action": "store_true", "help": "write over files there that were changed"}),
        ],
    ),
    "carve": (
        verbs.carve,
        "allocate subnets, from the shell, without a file",
        [
            ("words", {"metavar": "SPACE|NAME=HOSTS", "nargs": "+", "help": "prefixes; NAME[:ID]=HOSTS[..LATER]"}),
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
            ("--accept-losses", {"action": "store_true", "help": "also where something that works is lost"}),
            ("--all", {"action": "store_true", "help": "every VLAN, every line of filters, every decision"}),
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
            (
                "source",
                {
                    "metavar": "FROM",
                    "nargs": "?",
                    "help": "a host, a device, DEVICE/INTERFACE or outside; none with --in-order: a host of each VLAN",
                },
            ),
            ("targets", {"metavar": "TO", "nargs": "*", "help": "the same, an address, HOST/gateway, VLAN, subnet"}),
            ("--in-order", {"action": "store_true", "help": "the usual checks from FROM, one after another"}),
            ("--trace", {"action": "store_true", "help": "list the routers as the TTL uncovers them"}),
            ("--broadcast", {"action": "store_true", "help": "who hears a broadcast of FROM (without TO)"}),
            ("--lease", {"action": "store_true", "help": "how FROM is leased its address (without TO)"}),
            ("--count", {"type": verbs.probe_count, "default": 5, "metavar": "N", "help": "how many probes at least"}),
            ("--probe", {**SENT}),
            ("--family", {"type": int, "choices": (4, 6), "help": "by default IPv4 where both ends have it"}),
            *SUPPOSED,
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
            ("--probe", {**SENT, "metavar": "KIND[,KIND]"}),
            *SUPPOSED,
            ("--hosts", {"action": "store_true", "help": "show host by host"}),
            DEVICES,
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
            ("--all", {"action": "store_true", "help": "every table of every device, not a line for each"}),
            ("--table", {"choices": TABLES, "help": "print the whole address list"}),
            JSON,
        ],
    ),
    "mend": (
        verbs.mend,
        "apply the mends of the audit's findings, audit again, show what changed",
        [
            NETWORK,
            _written("where the mended network is written", "NEW", required=False),
            ("--only", {**SEVERAL, "metavar": "WHICH", "help": "a severity, a kind, a device, KIND@DEVICE: only that"}),
            ("--ask", {"action": "store_true", "help": "go through them one by one"}),
            ("--why", {"type": verbs.finding_number, "metavar": "N", "help": "what was tried for finding N"}),
            ("--notes", {"action": "store_true", "help": "mend notes, too, once no error is left"}),
            ("--accept-losses", {"action": "store_true", "help": "mends, too, by which something that works is lost"}),
            JSON,
        ],
    ),
    "export": (
        verbs.export,
        "write the network in an open format",
        [
            NETWORK,
            ("--as", {"dest": "format", "choices": tuple(FORMATS), "required": True, "help": ABOUT}),
            _written("where it is written", "FILE"),
        ],
    ),
    "import": (
        verbs.import_table,
        "make a network, or a brief, of an address list; or a network of what devices say of themselves",
        [
            ("table", {"metavar": "TABLE|DIR", "help": "separated values or Markdown; or a folder for each device"}),
            _written("where the document is written", "DOCUMENT"),
            ("--brief", {"action": "store_true", "help": "a brief to design from, instead of a network"}),
        ],
    ),
    "compare": (
        changing.compare,
        "what another state of the network has otherwise, and what that does",
        [
            ("old", {"metavar": "OLD", "help": "the network as it was"}),
            ("new", {"metavar": "NEW", "help": "the network as it is, or is to be"}),
            ("--quick", {"action": "store_true", "help": "do not break every part of both in turn"}),
            ("--family", {"type": int, "choices": (4, 6), "help": "count its pairs only; by default those of any"}),
            DEVICES,
            _written("draw both in one diagram: an .svg or .png file", "FILE", required=False),
            JSON,
        ],
    ),
    "change": (
        changing.change,
        "the steps from one state of a network to another; of one alone, the list from empty devices",
        [
            ("old", {"metavar": "OLD", "help": "the network that runs; alone: the one to set up"}),
            ("new", {"metavar": "NEW", "nargs": "?", "help": "the network that is wanted"}),
            ("--recipe", {"metavar": "RECIPE", "help": "instead of NEW: what is to become of it, in a few lines"}),
            (
                "--accept-losses",
                {"action": "store_true", "help": "follow the recipe, too, where something that works is lost by it"},
            ),
            ("--from", {"dest": "host", "metavar": "HOST", "help": "where the person sits who makes the changes"}),
            ("--window", {"action": "store_true", "help": "group the steps that interrupt together, with their time"}),
            ("--pace", {"type": verbs.minutes, "metavar": "MINUTES", "help": "how long a step takes (2)"}),
            ("--at", {"type": verbs.step, "metavar": "N", "help": "write the network after step N"}),
            ("--enter", {"action": "store_true", "help": "what to enter at each step, complete, line by line"}),
            ("--device", {"metavar": "NAME", "help": "only what is entered there, at a device or host"}),
            ("--markdown", {"action": "store_true", "help": "what to enter as a list of boxes to tick off"}),
            ("--all", {"action": "store_true", "help": "from empty devices: everything, not a line for each"}),
            DEVICES,
            _written("where that network, or the recipe's, is written", "NETWORK", required=False),
            JSON,
        ],
    ),
    "record": (
        recording.record,
        "keep a state of the network in git, with what is said of it; list, compare, restore what was kept",
        [
            NETWORK,
            ("-m", {"dest": "why", "metavar": "WHY", "help": "record it as it stands, and why"}),
            ("--list", {"dest": "listed", "action": "store_true", "help": "what was recorded, the latest first"}),
            ("--compare", {"dest": "compared", "nargs": 2, "metavar": ("A", "B"), "help": "two records"}),
            ("--restore", {"dest": "restored", "metavar": "A", "help": "write it as it was recorded"}),
            DEVICES,
            JSON,
        ],
    ),
    "rehearse": (
        verbs.rehearse,
        "build the network in a real kernel, send real probes, show its answers beside ours",
        [
            NETWORK,
            ("--from", {"dest": "sources", "action": "append", "default": [], "metavar": "FROM", "help": "from it"}),
            ("--to", {"dest": "targets", "action": "append", "default": [], "metavar": "TO", "help": "to it"}),
            ("--probe", {**SENT}),
            ("--break", {"dest": "part", "metavar": "PART", "help": "break it first, one --from probing one --to"}),
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
            DEVICES,
            ("--restore", {"type": verbs.seconds, "metavar": "SECONDS", "help": "the part is back after that long"}),
            ("--every", {"type": verbs.seconds, "default": 0.1, "metavar": "SECONDS", "help": "between probes (0.1)"}),
            ("--probe", {**SENT}),
            ("--orderly", {"action": "store_true", "help": "shut it down in order: who is active says goodbye"}),
            ("--family", {"type": int, "choices": (4, 6), "help": "by default IPv4 where both ends have it"}),
            ALL,
            JSON,
        ],
    ),
    "traffic": (
        loading.traffic,
        "what every link carries of what hosts send, which fills first, and what failures do to the others",
        [
            NETWORK,
            ("--failures", {"action": "store_true", "help": "break every part in turn; the others carry its traffic"}),
            ("--each", {"type": verbs.rate, "metavar": "RATE", "help": "assume that every host sends this (2M)"}),
            ("--others", {**SHARE, "help": "of it to other VLANs (50%%)"}),
            ("--outside", {**SHARE, "help": "of it outside (30%%)"}),
            ("--answers", {**SHARE, "help": "how much of all comes back (50%%)"}),
            _written("draw it: an .svg or .png file", "FILE", required=False),
            ALL,
            JSON,
        ],
    ),
    "weigh": (
        weighing.weigh,
        "the places where a brief's gateways could be: designed, checked, loaded, broken, side by side",
        [
            ("brief", {"metavar": "BRIEF", "help": "what is needed"}),
            ("--keep", {"metavar": "NETWORK", "help": "the network that runs: steps from it are counted"}),
            ("--from", {"dest": "host", "metavar": "HOST", "help": "with --keep: where the person sits (first host)"}),
            ("--suppose", {**SEVERAL, "metavar": "SWITCH", "help": "look at it as if it were a layer 3 switch"}),
            ("--growth", {"type": verbs.factor, "default": 1.0, "metavar": "TIMES", "help": "so much more (1)"}),
            ("--full", {**SHARE, "default": 0.7, "help": "from which share on a link counts as full (70%%)"}),
            DEVICES,
            ("--tolerate", {**SHARE, "default": 0.0, "help": "pairs more or fewer that are no difference (0%%)"}),
            _written("a directory: each design, and a picture", "DIR", required=False),
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
        "print the JSON Schema of a document, for editors, or of what a verb answers with --json",
        [
            ("kind", {"metavar": "network|brief|recipe|VERB", "help": "which document, or whose answer"}),
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
    "demo": ["", "tern-bay", "tour tern-bay"],
    "carve": [
        "10.44.0.0/20 tickets=45 crew=110",
        "10.44.0.0/20 crew:220=110 --pin crew=10.44.2.0/24",
        "10.44.0.0/20 crew=110..300",
    ],
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
    "import": ["addresses.csv -o network.yaml", "addresses.csv --brief -o brief.yaml", "as-built -o running.yaml"],
    "outages": [
        "network.yaml",
        "network.yaml -o hanging.svg",
        "network.yaml --double --workers 2 --resume double.jsonl",
        "network.yaml --break holm --from innkeeper --to purser",
        "network.yaml --break holm --from innkeeper --to purser --restore 20",
    ],
    "compare": ["network.yaml new.yaml", "network.yaml new.yaml -o both.svg"],
    "change": [
        "network.yaml new.yaml --from purser",
        "network.yaml new.yaml --from purser --window",
        "network.yaml new.yaml --from purser --at 12 -o step-12.yaml",
        "network.yaml --recipe recipe.yaml --from purser -o new.yaml",
        "network.yaml new.yaml --from purser --enter --device holm",
        "network.yaml",
        "network.yaml --device holm --markdown",
    ],
    "record": [
        "network.yaml -m before-the-move",
        "network.yaml --list",
        "network.yaml --compare HEAD~1 HEAD",
        "network.yaml --restore HEAD~1",
    ],
    "rehearse": [
        "network.yaml",
        "network.yaml --from kiosk-a --seconds 60",
        "network.yaml --break holm --from innkeeper --to holm-gate",
    ],
    "traffic": ["network.yaml", "network.yaml --each 5M --failures", "network.yaml -o load.svg"],
    "weigh": [
        "brief.yaml",
        "brief.yaml --suppose hall -o weighed",
        "brief.yaml --suppose hall --keep network.yaml --from purser",
    ],
    "draw": ["network.yaml -o network.svg", "network.yaml -o way.svg --way purser,lamp"],
    "schema": ["network", "network -o archipelago-network.schema.json", "audit"],
    "completion": ["bash >> ~/.bashrc", "zsh >> ~/.zshrc", "fish > ~/.config/fish/completions/archipelago.fish"],
}
"""Calls of each verb, shown in its help."""
