"""Real probes between namespaces: echo requests, TCP connections, UDP datagrams. Runs by itself, inside the kernel that
holds them; standard library only.

    python3 prober.py QUESTIONS    a JSON file: [{"space", "protocol", "port", "targets": [[key, address], ...]}, ...];
                                   "expected", a list of keys, may be there too;
                                   {"space", "protocol", "port", "listens": true} for who answers on a port

Prints the keys that were answered, as a JSON list. Each round asks everything that is still unanswered, from ports of
its own; the first ones fill the kernel's tables, so that what is judged is the steady state. What is expected and has
not been answered is asked more often: a difference must last.
"""

import ctypes
import errno
import json
import os
import select
import socket
import struct
import sys
import time
from contextlib import suppress
from typing import Any, NamedTuple

ROUNDS = 4
ROUNDS_EXPECTED = 10
QUIET = 0.35
"""Seconds without any answer after which a round is over."""
CLONE_NEWNET = 0x40000000
IP_PKTINFO = 8
IP_MTU_DISCOVER, IPV6_MTU_DISCOVER, PMTUDISC_PROBE = 10, 23, 3


class Asked(NamedTuple):
    """One question: the number of who asks, its own number, its key, and the address asked."""

    identity: int
    number: int
    key: str
    address: str
    space: str
    protocol: str
    port: int
    size: int

    @property
    def version(self) -> int:
        return 6 if ":" in self.address else 4


def enter(space: str) -> None:
    handle = os.open("/run/netns/" + space, os.O_RDONLY)
    try:
        if ctypes.CDLL(None, use_errno=True).setns(handle, CLONE_NEWNET) != 0:
            raise OSError(ctypes.get_errno(), "cannot enter " + space)
    finally:
        os.close(handle)


def checksum(data: bytes) -> int:
    total: int = sum(struct.unpack(f"!{len(data) // 2}H", data))
    total = (total >> 16) + (total & 0xFFFF)
    return ~(total + (total >> 16)) & 0xFFFF


def request(version: int, identity: int, number: int, size: int) -> bytes:
    data = bytes(size) if size else b"archipel"
    if version == 6:
        return struct.pack("!BBHHH", 128, 0, 0, identity, number) + data  # the kernel fills the checksum in
    body = struct.pack("!BBHHH", 8, 0, 0, identity, number) + data
    return body[:2] + struct.pack("!H", checksum(body + bytes(len(body) % 2))) + body[4:]


def family(version: int) -> socket.AddressFamily:
    return socket.AF_INET6 if version == 6 else socket.AF_INET


def raw(version: int, sized: bool) -> socket.socket:
    protocol = socket.IPPROTO_ICMPV6 if version == 6 else 1
    opened = socket.socket(family(version), socket.SOCK_RAW, protocol)
    opened.setblocking(False)
    opened.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
    if sized:  # each request is sent whole, whatever was heard of the way
        level, option = (socket.IPPROTO_IPV6, IPV6_MTU_DISCOVER) if version == 6 else (0, IP_MTU_DISCOVER)
        opened.setsockopt(level, option, PMTUDISC_PROBE)
    return opened


class Listeners:
    """Who answers on the ports that are asked: TCP by itself, UDP by a datagram back from the address asked."""

    def __init__(self) -> None:
        self.sockets: dict[int, tuple[socket.socket, int]] = {}
        self.kept: list[socket.socket] = []

    def open(self, space: str, protocol: str, port: int) -> None:
        enter(space)
        for version in (4, 6):
            kind = socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM
            opened = socket.socket(family(version), kind)
            opened.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            if version == 6:
                opened.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
            opened.bind(("", port))
            opened.setblocking(False)
            if protocol == "tcp":
                opened.listen(1024)
                self.kept.append(opened)
                continue
            level, option = (socket.IPPROTO_IPV6, socket.IPV6_RECVPKTINFO) if version == 6 else (0, IP_PKTINFO)
            opened.setsockopt(level, option, 1)
            self.sockets[opened.fileno()] = (opened, version)

    def answer(self, handle: int) -> None:
        opened, version = self.sockets[handle]
        with suppress(OSError):
            data, told, _, sender = opened.recvmsg(2048, 256)
            for level, kind, value in told:
                if version == 6 and kind == socket.IPV6_PKTINFO:
                    opened.sendmsg([data], [(level, kind, value[:16] + bytes(4))], 0, sender)
                elif version == 4 and kind == IP_PKTINFO:
                    # the interface is left open; the address that was asked is the one that answers
                    opened.sendmsg([data], [(level, kind, bytes(4) + value[8:12] + bytes(4))], 0, sender)


class Round:
    """What one round has sent, and the sockets that wait for its answers."""

    def __init__(self, poll: "select.poll") -> None:
        self.poll = poll
        self.waiting: dict[int, tuple[socket.socket, Asked]] = {}

    def send(self, asked: Asked) -> None:
        enter(asked.space)
        tcp = asked.protocol == "tcp"
        opened = socket.socket(family(asked.version), socket.SOCK_STREAM if tcp else socket.SOCK_DGRAM)
        opened.setblocking(False)
        try:
            if tcp:
                failed = opened.connect_ex((asked.address, asked.port))
                if failed not in (0, errno.EINPROGRESS):
                    raise OSError(failed, "not sent")
            else:
                opened.sendto(asked.key.encode(), (asked.address, asked.port))
        except OSError:  # no route, no carrier: unanswered
            opened.close()
            return
        self.waiting[opened.fileno()] = (opened, asked)
        self.poll.register(opened.fileno(), select.POLLOUT if tcp else select.POLLIN)

    def answered(self, handle: int) -> "Asked | None":
        """The question that was answered; None where that was no answer."""
        opened, asked = self.waiting[handle]
        if asked.protocol == "tcp":
            self.forget(handle)
            return asked if opened.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR) == 0 else None
        try:
            data, sender = opened.recvfrom(2048)
        except OSError:
            return None
        return asked if data == asked.key.encode() and sender[0].split("%")[0] == asked.address else None

    def forget(self, handle: int) -> None:
        self.poll.unregister(handle)

    def close(self) -> None:
        for handle, (opened, _) in self.waiting.items():
            with suppress(KeyError, OSError):
                self.poll.unregister(handle)
            opened.close()


def echo_reply(data: bytes, version: int, identity: int) -> "int | None":
    """The number of the request that a packet is the reply to; None where it is none of ours."""
    if version == 4:
        data = data[(data[0] & 15) * 4 :]
    kind, _, _, own, number = struct.unpack("!BBHHH", data[:8])
    return number if kind == (129 if version == 6 else 0) and own == identity else None


class Work(NamedTuple):
    """Everything that is asked, what of it is expected, the sockets that echo requests go out by, and who answers."""

    pending: "dict[tuple[int, int], Asked]"
    expected: "set[tuple[int, int]]"
    raws: "dict[tuple[int, int], socket.socket]"
    listeners: Listeners


def work_of(questions: "list[dict[str, Any]]") -> Work:
    """What the questions come to."""
    work = Work({}, set(), {}, Listeners())
    for identity, question in enumerate(questions, 1):
        space, protocol, port = question["space"], question["protocol"], question["port"]
        if question.get("listens"):
            work.listeners.open(space, protocol, port)
            continue
        hoped, size = set(question.get("expected", ())), question.get("size", 0)
        for number, (key, address) in enumerate(question["targets"]):
            asked = Asked(identity, number, key, address, space, protocol=protocol, port=port, size=size)
            work.pending[identity, number] = asked
            if key in hoped:
                work.expected.add((identity, number))
            if protocol == "icmp" and (identity, asked.version) not in work.raws:
                enter(space)
                work.raws[identity, asked.version] = raw(asked.version, bool(size))
    return work


def main() -> None:
    with open(sys.argv[1]) as file:
        pending, expected, raws, listeners = work_of(json.load(file))
    poll = select.poll()
    by_handle = {opened.fileno(): (opened, *mark) for mark, opened in raws.items()}
    for handle in (*by_handle, *listeners.sockets):
        poll.register(handle, select.POLLIN)
    answered = []
    for count in range(ROUNDS_EXPECTED):
        if count >= ROUNDS and expected.isdisjoint(pending):
            break
        this = Round(poll)
        for asked in list(pending.values()):
            if asked.protocol != "icmp":
                this.send(asked)
                continue
            with suppress(OSError):  # no route, no carrier: unanswered
                packet = request(asked.version, asked.identity, asked.number, asked.size)
                raws[asked.identity, asked.version].sendto(packet, (asked.address, 0))
        last = time.monotonic()
        while pending and time.monotonic() - last < QUIET:
            for handle, _ in poll.poll(50):
                got = None
                if handle in listeners.sockets:
                    listeners.answer(handle)
                elif handle in this.waiting:
                    got = this.answered(handle)
                else:
                    opened, identity, version = by_handle[handle]
                    try:
                        data, sender = opened.recvfrom(65536)
                    except OSError:
                        continue
                    reply = echo_reply(data, version, identity)
                    wanted = pending.get((identity, reply)) if reply is not None else None
                    if wanted is not None and sender[0].split("%")[0] == wanted.address:
                        got = wanted
                if got is not None and pending.pop((got.identity, got.number), None) is not None:
                    answered.append(got.key)
                    last = time.monotonic()
        this.close()
    json.dump(answered, sys.stdout)


if __name__ == "__main__":
    main()
