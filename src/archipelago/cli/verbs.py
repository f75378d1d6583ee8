"""What each verb does with its words: read, call, print, answer with an exit code."""

from __future__ import annotations

import re
from argparse import ArgumentTypeError, Namespace
from collections.abc import Sized
from pathlib import Path

import archipelago
from archipelago.cli import out

SCHEMA_LINE = "# yaml-language-server: $schema=archipelago-network.schema.json"
"""How editors find the schema of a document that stands beside it: `archipelago schema network -o` that name."""


MOST_NOTES = 20
"""So many notes of a sheet are printed."""


def probe_count(text: str) -> int:
    if text.isdigit() and 1 <= int(text) <= 500:
        return int(text)
    raise ArgumentTypeError(f"'{text}' is not a number of probes; a whole number from 1 to 500 is expected")


def event_number(text: str) -> int:
    if text.isascii() and text.isdigit() and len(text) < 10:
        return int(text)
    raise ArgumentTypeError(f"'{text}' is not the number of an event; --steps shows them")


def finding_number(text: str) -> int:
    if re.fullmatch(r"[1-9]\d{0,5}", text, re.ASCII):
        return int(text)
    raise ArgumentTypeError(f"'{text}' is not the number of a finding; the audit shows them, from 1")


def seconds(text: str) -> float:
    if re.fullmatch(r"\d{1,6}(\.\d{1,3})?", text, re.ASCII) and float(text) > 0:
        return float(text)
    raise ArgumentTypeError(f"'{text}' is not a time; seconds above 0 are expected, such as 60 or 7.5")


def minutes(text: str) -> float:
    """How long a step takes.

    Raises:
        ArgumentTypeError: that is no time.
    """
    if re.fullmatch(r"\d{1,4}(\.\d{1,2})?", text, re.ASCII) and float(text) > 0:
        return float(text)
    raise ArgumentTypeError(f"'{text}' is not a time; minutes above 0 are expected, such as 2 or 0.5")


def rate(text: str) -> float:
    """Bits per second.

    Raises:
        ArgumentTypeError: that is no rate.
    """
    match = re.fullmatch(r"(\d{1,6}(?:\.\d{1,6})?)([kMG])", text, re.ASCII)
    if match is not None:
        return float(match[1]) * {"k": 1e3, "M": 1e6, "G": 1e9}[match[2]]
    raise ArgumentTypeError(f"'{text}' is not a rate; bits per second are expected, such as 500k, 2M or 1G")


def factor(text: str) -> float:
    """How many times.

    Raises:
        ArgumentTypeError: that is no number above 0.
    """
    if re.fullmatch(r"\d{1,6}(\.\d{1,6})?", text, re.ASCII) and float(text) > 0:
        return float(text)
    raise ArgumentTypeError(f"'{text}' is not how many times; a number above 0 is expected, such as 2 or 1.5")


def share(text: str) -> float:
    """A share, as a part of 1.

    Raises:
        ArgumentTypeError: that is none.
    """
    if re.fullmatch(r"\d{1,4}(\.\d{1,2})?%", text, re.ASCII):
        return float(text[:-1]) / 100
    raise ArgumentTypeError(f"'{text}' is not a share; one is written like 25%")


def step(text: str) -> int:
    """The number of a step.

    Raises:
        ArgumentTypeError: that is none.
    """
    if re.fullmatch(r"\d{1,6}", text, re.ASCII):
        return int(text)
    raise ArgumentTypeError(f"'{text}' is not the number of a step; a whole number from 0 is expected")


def demo(words: Namespace) -> int:
    from pathlib import Path

    from archipelago.errors import QueryError

    touring = words.words[:1] == ["tour"]
    folders = words.words[touring:]
    if len(folders) > 1:
        raise QueryError(f"one folder is expected, not {' and '.join(folders)}")
    directory = Path(folders[0] if folders else "tern-bay")
    if touring:
        from archipelago.cli.tour import tour

        tour(directory, force=words.force)
    else:
        from archipelago.cli.demo import demo

        demo(directory, force=words.force)
    return 0


def carve(words: Namespace) -> int:
    from archipelago.cli.words import carve_words

    spaces, needs, ids, pins, share = carve_words(words.words, words.pin, words.headroom)
    carving = archipelago.carve(
        spaces,
        needs,
        headroom=share,
        gateway=words.gateway,
        pins=pins,
        ids=ids,
        reserved=words.reserve,
        by_vlan_id=words.by_vlan_id,
    )
    if words.output:
        archipelago.draw(carving, words.output)
    if words.as_json:
        out.say_json(carving.values())
        return 0
    out.answer(carving)
    out.drawn(words.output)
    return 0


def design(words: Namespace) -> int:
    from archipelago.files.disk import write_whole

    asked = archipelago.read_brief(words.brief)
    keep = archipelago.read_network(words.keep) if words.keep else None
    made = archipelago.design(asked, keep, accept_losses=words.accept_losses)
    if words.output:
        write_whole(words.output, f"{SCHEMA_LINE}\n{archipelago.network_text(made.network)}")
    if words.as_json:
        out.say_json(made.values())
        return 0
    out.answer(made, also=f", written to {words.output}" if words.output else "", whole=words.all)
    tell_growth(asked, made)
    if not words.output:
        out.say()
        out.say("not written anywhere: give -o NETWORK")
    return 0


def tell_growth(brief: archipelago.Brief, made: archipelago.Design) -> None:
    """What runs out first, where a brief foresees that hosts become more."""
    from archipelago.weighing.growth import grows

    if grows(brief):
        found = archipelago.foresee(brief, made)
        out.say()
        out.say(found.headline)
        out.say_tables(found.tables())


def audit(words: Namespace) -> int:
    found = archipelago.audit(archipelago.read_network(words.network), quick=words.quick)
    return out.reply(found, words)


def reach(words: Namespace) -> int:
    from archipelago.cli.reach import reach as run

    return run(words)


def matrix(words: Namespace) -> int:
    from archipelago.cli.pairs import matrix as run

    return run(words)


def view(words: Namespace) -> int:

    from archipelago.cli.words import two_ends

    network = archipelago.read_network(words.network)
    if words.table:
        out.say_lines(str(archipelago.export(network, words.table)).splitlines())
        return 0
    result = archipelago.view(
        network,
        words.devices,
        vlans=words.vlan,
        ports=words.port,
        hosts=words.host,
        gateways=words.gateways,
        policy=words.policy,
        leases=words.leases,
        redundancy=words.redundancy,
        after=two_ends(words.after) if words.after else None,
    )
    if words.as_json:
        out.say_json(result.values())
        return 0
    out.answer(result, whole=words.all)
    return 0


def mend(words: Namespace) -> int:
    from archipelago.cli.mending import mend as run

    return run(words)


def draw(words: Namespace) -> int:
    from archipelago.cli.words import two_ends

    way = two_ends(words.way) if words.way else None
    archipelago.draw(archipelago.read_network(words.network), words.output, way=way)
    out.say(f"drawn: {words.output}")
    return 0


def export(words: Namespace) -> int:
    """A file, or a directory of files where the format is several."""
    from archipelago.files.disk import make_directory, write_whole
    from archipelago.views.formats import FORMATS

    network = archipelago.read_network(words.network)
    made = archipelago.export(network, words.format)
    if isinstance(made, (str, bytes)):
        write_whole(words.output, made)
        then = FORMATS[words.format].then.format(words.output)
        out.say(f"written: {words.output}" + (then and f"; {then}"))
        lacks = FORMATS[words.format].lacks
        for line in lacks(network, made) if lacks is not None else ():
            out.say(line)
        return 0
    directory = make_directory(words.output)
    for name, text in made.items():
        write_whole(directory / name, text)
    out.say(f"written: {len(made)} files in {words.output}")
    return 0


def import_table(words: Namespace) -> int:
    from archipelago.views.table import counted

    if words.table != "-" and Path(words.table).is_dir():
        return _as_built(words)
    read = archipelago.read_sheet(words.table)
    network = read.network
    made: archipelago.Network | archipelago.Brief = network
    if words.brief:
        made = archipelago.needs_of(network)
        archipelago.write_brief(made, words.output)
    else:
        archipelago.write_network(network, words.output)
    parts: list[tuple[Sized, str]] = [(made.devices, "device"), (made.vlans, "VLAN"), (made.hosts, "host")]
    parts += [(made.cables, "cable")] if made.cables else []
    told = ", ".join(counted(len(things), noun) for things, noun in parts)
    out.head(f"imported: {told}, written to {words.output}")
    if words.brief:
        out.say("a table holds no cables and no space beyond its subnets: add them, then design it")
    else:
        lacking = "trunks or routes" if made.cables else "cables, trunks or routes"
        out.say(f"a table holds no {lacking}: add them, then audit it")
    for note in read.notes[:MOST_NOTES]:
        out.say(note)
    if len(read.notes) > MOST_NOTES:
        out.say(f"and {len(read.notes) - MOST_NOTES:,} more; 'archipelago.read_sheet' has them all")
    return 0


def _as_built(words: Namespace) -> int:
    """What really runs, read from a directory of what devices say of themselves."""
    from archipelago.errors import QueryError
    from archipelago.views.table import counted

    if words.brief:
        raise QueryError("--brief goes with a table; a directory of what runs becomes a network")
    found = archipelago.read_as_built(words.table)
    archipelago.write_network(found.network, words.output)
    network = found.network
    parts = ((network.devices, "device"), (network.hosts, "host"), (network.cables, "cable"))
    out.head(f"imported: {', '.join(counted(len(things), noun) for things, noun in parts)}, written to {words.output}")
    for note in found.notes:
        out.say(note)
    return 0


def rehearse(words: Namespace) -> int:
    from archipelago.views import rehearsal as view

    network = archipelago.read_network(words.network)
    result = archipelago.rehearse(
        network, words.sources, words.targets, seconds=words.seconds, probe=words.probe, part=words.part
    )
    if words.as_json:
        out.say_json(result.values())
    else:
        out.note(view.WHERE[result.where])
        out.answer(result)
    return 0 if result else 1


def schema(words: Namespace) -> int:
    import json

    from archipelago.files.disk import write_whole

    text = json.dumps(archipelago.schema(words.kind), indent=2) + "\n"
    if words.output:
        write_whole(words.output, text)
        out.say(f"written: {words.output}")
    else:
        out.say_lines(text.splitlines())
    return 0


def completion(words: Namespace) -> int:
    from argcomplete.shell_integration import shellcode

    out.say_lines(shellcode(["archipelago"], shell=words.shell).splitlines())
    return 0
