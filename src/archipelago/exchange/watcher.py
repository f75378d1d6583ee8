"""Real probes from one namespace to an address while something breaks. Runs by itself, beside `prober`, inside the
kernel that holds them; standard library only.

    python3 watcher.py WATCH    a JSON file: {"space", "address", "protocol", "port", "answering", "every", "lead",
                                "until", "interval", "hears": [[space, version, vrid], ...], "cut": [command, ...]}

Times are in seconds. The command, which has started, is told to go on `lead` after an advertisement of a shared gateway
that is heard in one of the spaces (VRRP version 3, RFC 9568), where any is to be heard every `interval`. Prints, for
each probe, when it was sent, counted from the break, and whether it was answered, as a JSON list.
"""

import json
import os
import select
import socket
import struct
import subprocess
import sys
import time
from contextlib import suppress
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from archipelago.exchange.prober import Asked, Listeners, Round, echo_reply, enter, raw, request
else:
    from prober import Asked, Listeners, Round, echo_reply, enter, raw, request

VRRP = 112
AFTER = 0.005
"""Seconds after the break that the first probe after it is sent: not in the same moment."""


def heard(spaces: "list[tuple[str, int, int]]", longest: float) -> float:
    """When the next advertisement of any of these shared gateways is heard; now, where there is none in time."""
    waiting = {}
    for space, version, vrid in spaces:
        enter(space)
        kind = 0x86DD if version == 6 else 0x0800
        opened = socket.socket(socket.AF_PACKET, socket.SOCK_DGRAM, socket.htons(kind))
        waiting[opened.fileno()] = (opened, version, vrid)
    end = time.monotonic() + longest
    while waiting and time.monotonic() < end:
        for handle in select.select(list(waiting), [], [], 0.05)[0]:
            opened, version, vrid = waiting[handle]
            data = opened.recv(2048)
            body = data[40:] if version == 6 else data[(data[0] & 15) * 4 :]
            protocol = data[6] if version == 6 else data[9]
            if protocol == VRRP and len(body) > 1 and body[1] == vrid:
                return time.monotonic()
    return time.monotonic()


class Probes:
    """The probes of one end, and which of them were answered."""

    def __init__(self, watch: dict[str, Any]) -> None:
        self.poll = select.poll()
        self.round = Round(self.poll)
        self.watch = watch
        self.version = 6 if ":" in watch["address"] else 4
        self.sent: list[float] = []
        self.answered: set[int] = set()
        self.listeners = Listeners()
        self.raw = None
        if watch["protocol"] == "icmp":
            enter(watch["space"])
            self.raw = raw(self.version, bool(watch["size"]))
            self.poll.register(self.raw.fileno(), select.POLLIN)
        else:
            for space in watch["answering"]:
                self.listeners.open(space, watch["protocol"], watch["port"])
            for handle in self.listeners.sockets:
                self.poll.register(handle, select.POLLIN)

    def send(self) -> None:
        watch, number = self.watch, len(self.sent)
        self.sent.append(time.monotonic())
        with suppress(OSError):  # no route, no carrier: unanswered
            if self.raw is not None:
                self.raw.sendto(request(self.version, 1, number, watch["size"]), (watch["address"], 0))
            else:
                own = (1, number, str(number), watch["address"], watch["space"])
                self.round.send(Asked(*own, protocol=watch["protocol"], port=watch["port"], size=0))

    def listen(self, until: float) -> None:
        while (left := until - time.monotonic()) > 0:
            for handle, _ in self.poll.poll(max(left * 1000, 0)):
                if handle in self.listeners.sockets:
                    self.listeners.answer(handle)
                elif self.raw is not None and handle == self.raw.fileno():
                    with suppress(OSError, struct.error):
                        data, sender = self.raw.recvfrom(65536)
                        reply = echo_reply(data, self.version, 1)
                        if reply is not None and sender[0].split("%")[0] == self.watch["address"]:
                            self.answered.add(reply)
                elif (got := self.round.answered(handle)) is not None:
                    self.answered.add(got.number)


def main() -> None:
    with open(sys.argv[1]) as file:
        watch = json.load(file)
    probes = Probes(watch)
    lead, every = watch["lead"], watch["every"]
    probes.send()  # fills the kernel's tables
    probes.listen(time.monotonic() + 1)
    probes = Probes(watch)
    broken = heard(watch["hears"], watch["interval"] + 2) + lead
    waits, tells = os.pipe()
    subprocess.Popen(watch["cut"], stdin=waits, stdout=subprocess.DEVNULL)
    number = -int(lead / every)
    while number * every < watch["until"]:
        at = broken + number * every + AFTER
        if number == 0:
            probes.listen(broken)
            os.write(tells, b"now\n")
        probes.listen(at)
        probes.send()
        number += 1
    probes.listen(time.monotonic() + 1)
    json.dump([[sent - broken, count in probes.answered] for count, sent in enumerate(probes.sent)], sys.stdout)


if __name__ == "__main__":
    main()
