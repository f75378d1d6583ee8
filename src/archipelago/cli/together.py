"""Which options go together: what would be ignored is an error, and so is what asks two questions at once."""

from __future__ import annotations

from argparse import Namespace
from collections.abc import Mapping, Sequence

from archipelago.cli.calls import VERBS
from archipelago.errors import QueryError

OVER_TIME = ("--from", "--to", "--restore", "--every", "--probe", "--orderly", "--family")
SHOWN = ("--steps", "--device", "--protocol", "--from-fault")
ONE_QUESTION = ("--count", "--probe", *SHOWN, "--next", "--after", "--frame")
SUPPOSED = ("--without", "--move")
VIEWS = ("--vlan", "--port", "--host", "--gateways", "--policy", "--leases", "--redundancy", "--after")
OTHERS = ("--trace", "--broadcast", "--in-order")

NEEDS: Mapping[str, Mapping[str, Sequence[str]]] = {
    "outages": {
        **dict.fromkeys(OVER_TIME, ("--break",)),
        **dict.fromkeys(("--workers", "--scheduler", "--resume"), ("--double",)),
    },
    "change": {"--pace": ("--window",), "--accept-losses": ("--recipe",)},
    "record": {"--devices": ("-m", "--compare")},
    "weigh": {"--from": ("--keep",)},
}
"""By verb the options that say something only beside one of others."""

WITH_NEW = ("--recipe", "--from", "--window", "--pace", "--at", "--output", "--accept-losses", "--devices", "--enter")
"""What `change` takes only where it goes from one network to another."""

APART: Mapping[str, Sequence[tuple[str, Sequence[str]]]] = {
    "matrix": [
        ("--csv", ("--json", "--hosts")),
        ("--json", ("--hosts",)),
        ("--policy", ("--family", "--without", "--move", "--hosts", "--csv", "--devices", "--probe")),
    ],
    "outages": [
        ("--break", ("--double", "--quick", "--devices", "--workers", "--scheduler", "--resume", "--all")),
        ("--double", ("--output",)),
        ("--all", ("--json",)),
    ],
    "traffic": [("--all", ("--json",))],
    "design": [("--all", ("--json",))],
    "change": [
        ("--json", ("--window", "--pace", "--enter", "--device", "--markdown", "--all")),
        ("--at", ("--window", "--pace", "--enter", "--device", "--markdown")),
        ("--window", ("--enter", "--device", "--markdown")),
        ("--all", ("--device", "--markdown", *WITH_NEW)),
    ],
    "reach": [
        *((one, (*(other for other in OTHERS if other > one), "--lease", *ONE_QUESTION, *SUPPOSED)) for one in OTHERS),
        ("--broadcast", ("--family",)),
        ("--lease", ("--count", "--probe", "--next", "--after", "--frame", "--family", *SUPPOSED)),
        ("--next", ("--after", "--frame", *SHOWN)),
        ("--after", ("--frame", *SHOWN)),
        ("--frame", SHOWN),
    ],
    "record": [
        ("-m", ("--list", "--compare", "--restore")),
        ("--list", ("--compare", "--restore")),
        ("--compare", ("--restore",)),
        ("--restore", ("--json",)),
    ],
    "view": [("--table", ("--json", "--all", *VIEWS)), ("--all", ("--json",))],
    "mend": [("--why", ("--output", "--ask", "--json", "--only", "--notes")), ("--ask", ("--json", "--notes"))],
}
"""By verb the options that do not go with others."""


def check(words: Namespace, arguments: Sequence[str]) -> None:
    """Whether the options of a call go together.

    Args:
        words: the call as it was understood.
        arguments: the call as it was written.

    Raises:
        QueryError: one would be ignored, or two ask different questions.
    """
    given = _given(words.verb, arguments)
    for option, needed in NEEDS.get(words.verb, {}).items():
        if option in given and not given & set(needed):
            raise QueryError(f"{option} goes with {' or '.join(needed)}; alone it would say nothing")
    for one, others in APART.get(words.verb, ()):
        against = next((other for other in others if one in given and other in given), None)
        if against is not None:
            raise QueryError(f"{against} does not go with {one}: ask one after the other")
    if words.verb == "change" and words.new is None and "--recipe" not in given:
        ignored = [option for option in WITH_NEW if option in given]
        if ignored:
            raise QueryError(f"{ignored[0]} goes with NEW, or with a recipe: from empty devices there is one list")
    if getattr(words, "output", None) == "":
        raise QueryError("--output is empty: the name of a file is expected")


def _given(verb: str, arguments: Sequence[str]) -> set[str]:
    """The options that were written, by the first of their names."""
    first = {name: names[0] for *names, _ in VERBS[verb][2] for name in names if name.startswith("-")}
    given: set[str] = set()
    for word in arguments:
        if word == "--":
            break
        name = word.partition("=")[0]
        if name in first:
            given.add(first[name])
        elif name.startswith("--"):
            given |= {first[known] for known in first if known.startswith(name)}
        elif name[:1] == "-" and name[:2] in first:
            given.add(first[name[:2]])
    return given
