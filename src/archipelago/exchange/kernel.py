"""Real probes over a real kernel: this machine's where it has the parts and the rights, else one that boots as an
ordinary process (user-mode-linux). Nothing is left behind: no namespace, no process, no file."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator, Sequence, Set
from contextlib import contextmanager, suppress
from pathlib import Path
from shlex import quote
from typing import Literal, NamedTuple

from archipelago.addressing.values import Address
from archipelago.errors import KernelError
from archipelago.exchange.broken import broken_script
from archipelago.exchange.linux import namespace, namespace_tag, script
from archipelago.model.filters import ECHO, Probe
from archipelago.model.network import Network
from archipelago.progress import tell

Pair = tuple[str, str]


class Watch(NamedTuple):
    """Probes from a host to an address while a part breaks: one `every` so many seconds, from `lead` before until
    `until` after it. The first of these is sent after an advertisement of a shared gateway that changes hands: `hears`
    has each as a host beside it, the family and the VRID; they come every `interval`."""

    source: str
    address: Address
    every: float
    lead: float
    until: float
    interval: float
    hears: Sequence[tuple[str, int, int]]


class Breaks(NamedTuple):
    """What the network is once a part has broken, and who probes meanwhile."""

    after: Network
    watch: Watch | None


class Question(NamedTuple):
    """A network, and what is asked in it: from which host, at which host, at which address; what is sent; the pairs
    that we say are answered, so that a difference is looked at again before it counts; and what breaks before."""

    network: Network
    pairs: Sequence[tuple[str, str, Address]]
    probe: Probe = ECHO
    expected: Set[Pair] = frozenset()
    breaks: Breaks | None = None


Where = Literal["here", "uml"]
MODULES = (
    "bridge 8021q veth dummy bonding vrf af_packet "
    "ip_tables iptable_filter iptable_mangle iptable_nat ip6_tables ip6table_filter ip6table_mangle "
    "macvlan sch_ingress cls_flower cls_u32 act_mirred act_gact "
    "nf_conntrack nf_nat xt_nat xt_conntrack xt_tcpudp xt_mark xt_MARK ipt_REJECT ip6t_REJECT"
)
TOGETHER = 8
"""Networks that are up at one time; they do not see each other."""


def kernel_here() -> Where:
    """The kernel that can be used.

    Raises:
        KernelError: neither this machine's kernel nor user-mode-linux can.
    """
    if shutil.which("ip") is None or shutil.which("bridge") is None:
        raise KernelError("the commands 'ip' and 'bridge' are missing; install the package iproute2")
    if os.geteuid() == 0 and _has_modules():
        return "here"
    if shutil.which("linux.uml"):
        return "uml"
    rights = "" if os.geteuid() == 0 else ", or run as root where the kernel has bridge, 8021q and veth"
    raise KernelError(f"this machine's kernel cannot build the network; install the package user-mode-linux{rights}")


def _has_modules() -> bool:
    """Whether this kernel makes a VLAN-aware bridge, tried in a namespace of its own."""
    space = f"isle-try-{os.getpid()}"
    try:
        subprocess.run(["ip", "netns", "add", space], check=True, capture_output=True)
        make = ["ip", "-n", space, "link", "add", "name"]
        subprocess.run([*make, "b", "type", "bridge", "vlan_filtering", "1"], check=True, capture_output=True)
        subprocess.run([*make, "v", "link", "b", "type", "vlan", "id", "2"], check=True, capture_output=True)
    except subprocess.CalledProcessError:
        return False
    finally:
        subprocess.run(["ip", "netns", "del", space], check=False, capture_output=True)
    return True


class Answers(NamedTuple):
    """What a kernel answered about a network: the pairs (source, target) whose probe was answered; and what each host
    that asked was leased: the address with its mask, the gateway or `none`, and the server's own address; where
    something is blocked, the root of each bridge and the ports; who is active, by VRID and family; and each probe that
    was sent while a part broke: seconds from then on, and whether it was answered."""

    pairs: set[Pair]
    leases: dict[str, tuple[str, str, str]]
    roots: dict[str, str]
    blocked: set[str]
    active: set[tuple[str, str, str]]
    probes: tuple[tuple[float, bool], ...] = ()


def ask_kernel(questions: Sequence[Question], *, where: Where | None = None, seconds: float = 300) -> list[Answers]:
    """Build each network in a kernel, let hosts ask for leases, and send real probes.

    Args:
        questions: networks, each with what is asked in it.
        where: which kernel; by default the one that `kernel_here` finds.
        seconds: the longest that all of it may take.

    Returns:
        For each network what was answered.

    Raises:
        KernelError: no kernel, not in time, or a network that the kernel refused to build.
    """
    chosen = where or kernel_here()
    with _workplace(chosen) as (work, keeper):
        driver = _write(work, questions)
        command = ["sh", str(driver)] if chosen == "here" else _boot(work, driver)
        _run(command, work, keeper, len(questions), seconds)
        return _read(work, len(questions))


def _write(work: Path, questions: Sequence[Question]) -> Path:
    """The scripts of all networks, what to ask in each batch, and the driver that runs them."""
    for program in ("prober.py", "watcher.py"):
        shutil.copy(Path(__file__).with_name(program), work / program)
    python = shutil.which("python3") or "python3"
    lines = ["export PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin:$PATH"]
    lines += [f"cd {quote(str(work))}"]
    # Room for the neighbours of all namespaces together.
    lines += ["for f in ipv4 ipv6; do echo 65536 >/proc/sys/net/$f/neigh/default/gc_thresh3 || :; done 2>/dev/null"]
    for start in range(0, len(questions), TOGETHER):
        batch = list(enumerate(questions))[start : start + TOGETHER]
        asked, tags = [], []
        for number, (network, pairs, probe, expected, breaks) in batch:
            # A tag of this run's own: the same network may be up already, by the script that `export` wrote.
            tag = f"{namespace_tag(network)}-{work.name.rpartition('-')[2]}"
            tags.append((number, quote(tag)))
            (work / f"{number}.sh").write_text(script(network, tag))
            if breaks is not None:
                (work / f"broken-{number}.sh").write_text(broken_script(network, breaks.after, tag))
                watching = _watching(breaks.watch, tag, number, probe, network)
                (work / f"watch-{number}.json").write_text(json.dumps(watching))
            by_source: dict[str, list[tuple[str, str]]] = {}
            for source, target, address in pairs:
                by_source.setdefault(source, []).append((f"{number} {source} {target}", str(address)))
            kind: dict[str, object] = {"protocol": probe.protocol, "port": probe.port, "size": probe.size}
            hoped: dict[str, list[str]] = {}
            for source, target in sorted(expected):
                hoped.setdefault(source, []).append(f"{number} {source} {target}")
            asked += [
                {"space": namespace(tag, source), "targets": targets, "expected": hoped.get(source, []), **kind}
                for source, targets in by_source.items()
            ]
            devices = network.devices if any(target not in network.hosts for _, target, _ in pairs) else ()
            answering = (*network.hosts, *devices) if probe.port else ()
            asked += [{"space": namespace(tag, name), "listens": True, **kind} for name in answering]
        (work / f"ask-{start}.json").write_text(json.dumps(asked))
        lines += [f"sh {number}.sh build >said-{number} 2>&1 || echo {number} >>refused" for number, _ in batch]
        lines += ["sleep 1.2"]
        # All at one time: whoever waits, for a tree or in vain for a lease, waits beside the others.
        lines += [f"(sh {number}.sh finish >>said-{number} 2>&1 || echo {number} >>refused) &" for number, _ in batch]
        lines += ["wait"]
        lines += [_breaking(number, python, question.breaks) for number, question in batch if question.breaks]
        lines += ["wait"]
        for told in ("given", "tree", "active"):
            lines += [f"cp /run/archipelago-{tag}.d/{told} {told}-{number} 2>/dev/null || :" for number, tag in tags]
        lines += [f"{quote(python)} prober.py ask-{start}.json >answers-{start}.json 2>>said"]
        lines += [f"sh {number}.sh down" for number, _ in batch]
        lines += [f"echo {batch[-1][0] + 1} >done"]
    driver = work / "driver.sh"
    driver.write_text("\n".join(lines) + "\n")
    return driver


def _watching(watch: Watch | None, tag: str, number: int, probe: Probe, network: Network) -> dict[str, object]:
    """What the watcher is told."""
    if watch is None:
        return {}
    return {
        "space": namespace(tag, watch.source),
        "address": str(watch.address),
        "protocol": probe.protocol,
        "port": probe.port,
        "size": probe.size,
        "answering": [namespace(tag, name) for name in network.hosts] if probe.port else [],
        "every": watch.every,
        "lead": watch.lead,
        "until": watch.until,
        "interval": watch.interval,
        "hears": [(namespace(tag, host), family, vrid) for host, family, vrid in watch.hears],
        "cut": ["sh", f"broken-{number}.sh", "cut"],
    }


def _breaking(number: int, python: str, breaks: Breaks) -> str:
    """The line that breaks what breaks in one network, while somebody watches: one network after the other, as what is
    lost hangs on time; then it goes on beside the others."""
    run = f"sh broken-{number}.sh"
    cut = f"{run} cut </dev/null"
    if breaks.watch is not None:
        cut = f"{quote(python)} watcher.py watch-{number}.json >probes-{number}"
    broken = f"({run} ready && {cut} || echo {number} >>refused) >>said-{number} 2>&1"
    return f"{broken}; ({run} again || echo {number} >>refused) >>said-{number} 2>&1 &"


def _boot(work: Path, driver: Path) -> list[str]:
    """The command that boots a kernel as a process, on this machine's own files, to run the driver and halt."""
    modules = work / "lib" / "modules"
    modules.mkdir(parents=True)
    for version in Path("/usr/lib/uml/modules").glob("*"):
        (modules / version.name).symlink_to(version)
    init = work / "init"
    init.write_text(
        "#!/bin/sh\n"
        "export PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin HOME=/\n"
        "mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t tmpfs tmpfs /run; mkdir -p /run/netns\n"
        f"for m in {MODULES}; do modprobe -q -d {quote(str(work))} $m; done\n"
        f"ip link set lo up\nsh {quote(str(driver))}\n"
        "poweroff -f 2>/dev/null || { echo 1 >/proc/sys/kernel/sysrq; echo o >/proc/sysrq-trigger; sleep 5; }\n"
    )
    init.chmod(0o755)
    return [
        "linux.uml", "mem=1024M", "root=/dev/root", "rootfstype=hostfs", "rootflags=/", "rw", f"init={init}",
        "con=null", "con0=fd:0,fd:1", "quiet",
    ]  # fmt: skip


_KEEPER = """work=$(mktemp -d "$1/archipelago-XXXXXXXX") && echo "$work" || exit
read -r group || group=
read -r ended || ended=
while read -r more; do :; done
for try in $(seq 100); do
  [ -n "$ended" ] || [ -z "$group" ] || kill -9 -"$group"
  [ -n "$ended" ] || [ "$2" = uml ] || for script in "$work"/[0-9]*.sh; do sh "$script" down; done
  rm -rf "$work" && [ ! -e "$work" ] && exit
  sleep 0.1
done
"""
"""Makes the directory, and waits until whoever started it is gone, whatever ended it, or closes the pipe: until then
what the kernel wrote is read. Then it ends the kernel, whose process group it was sent, unless it was also sent that
the kernel ended by itself, and takes away what is left of it: again and again, as what is being ended may still
write."""

_STARTER = 'read -r go && exec "$@" </dev/null'
"""Starts a command once its keeper knows of it; never, where whoever would say so is gone."""


@contextmanager
def _workplace(where: Where) -> Iterator[tuple[Path, subprocess.Popen[str]]]:
    """A directory to work in, and the process that takes it away."""
    none = subprocess.DEVNULL
    keeping = ["sh", "-c", _KEEPER, "sh", tempfile.gettempdir(), where]
    pipe = subprocess.PIPE
    keeper = subprocess.Popen(keeping, stdin=pipe, stdout=pipe, stderr=none, start_new_session=True, text=True)
    try:
        path = keeper.stdout.readline().rstrip("\n") if keeper.stdout else ""
        if not path:
            raise KernelError(f"no directory can be made in {tempfile.gettempdir()} to work in")
        yield Path(path), keeper
    finally:
        keeper.communicate()


def _run(command: list[str], work: Path, keeper: subprocess.Popen[str], total: int, seconds: float) -> None:
    """Run the command in a process group of its own, which ends with it, with us, or when time is up."""
    deadline = time.monotonic() + seconds
    with open(work / "console", "wb") as console:
        process = subprocess.Popen(
            ["sh", "-c", _STARTER, "sh", *command],
            stdin=subprocess.PIPE,
            stdout=console,
            stderr=console,
            start_new_session=True,
            env={**os.environ, "TMPDIR": str(work)},
            text=True,
        )
    try:
        _send(keeper, str(process.pid))
        _send(process, "go")
        while process.poll() is None:
            if time.monotonic() > deadline:
                raise KernelError(f"the kernel did not finish within {seconds:g} s")
            time.sleep(0.05)
            tell("asking the kernel", _done(work), total)
    except BaseException:
        with suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
        raise
    finally:
        process.communicate()
        _wait_for_group(process.pid)
    _send(keeper, "ended")  # by itself, and it has left nothing


def _send(process: subprocess.Popen[str], line: str) -> None:
    if process.stdin:
        process.stdin.write(f"{line}\n")
        process.stdin.flush()


def _wait_for_group(group: int) -> None:
    """Wait, a few seconds at most, until the last process of a group that was ended is gone."""
    for _ in range(100):
        try:
            os.killpg(group, 0)
        except ProcessLookupError:
            return
        time.sleep(0.05)


def _done(work: Path) -> int:
    try:
        return int((work / "done").read_text())
    except (OSError, ValueError):
        return 0


def _read(work: Path, total: int) -> list[Answers]:
    refused = work / "refused"
    if refused.exists():
        number = int(refused.read_text().split()[0])
        said = (work / f"said-{number}").read_text(errors="replace").strip().splitlines()
        raise KernelError(f"the kernel refused to build network {number + 1}: {' / '.join(said[:3])}")
    if _done(work) < total:
        last = (work / "console").read_text(errors="replace").strip().splitlines()[-3:]
        raise KernelError(f"the kernel did not finish; its last words: {' / '.join(last)}")
    rows = [
        Answers(
            set(),
            _given(work / f"given-{number}"),
            *_tree(work / f"tree-{number}"),
            _active(work, number),
            _probes(work / f"probes-{number}"),
        )
        for number in range(total)
    ]
    for start in range(0, total, TOGETHER):
        for key in json.loads((work / f"answers-{start}.json").read_text()):
            number, source, target = key.split(" ")
            rows[int(number)].pairs.add((source, target))
    return rows


def _tree(path: Path) -> tuple[dict[str, str], set[str]]:
    """The root of each bridge, and the ports that are blocked."""
    lines = [line.split() for line in path.read_text().splitlines()] if path.exists() else []
    ports = {(words[1], words[2]): words[3] for words in lines if words[0] == "port"}
    names = {words[1]: words[2] for words in lines if words[0] == "bridge"}
    ids = {words[2]: names[words[1]] for words in lines if words[0] == "root" and len(words) == 4}
    roots = {names[words[1]]: ids[words[3]] for words in lines if words[0] == "root" and len(words) == 4}
    return roots, {ports[words[1], words[2]] for words in lines if words[0] == "blocked"}


def _active(work: Path, number: int) -> set[tuple[str, str, str]]:
    path = work / f"active-{number}"
    lines = path.read_text().splitlines() if path.exists() else []
    return {(words[0], words[1], words[2]) for words in map(str.split, lines)}


def _given(path: Path) -> dict[str, tuple[str, str, str]]:
    """What clients noted down of their leases; the last of each counts."""
    lines = path.read_text().splitlines() if path.exists() else []
    return {words[0]: (words[1], words[2], words[3]) for words in map(str.split, lines) if len(words) == 4}


def _probes(path: Path) -> tuple[tuple[float, bool], ...]:
    return tuple((time, answered) for time, answered in json.loads(path.read_text())) if path.exists() else ()
