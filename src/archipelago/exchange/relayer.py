"""A relay of questions for leases (RFC 1542 4), for a kernel that a network is rehearsed in. Runs by itself, in the
namespace of one device; standard library only.

    python3 relayer.py INTERFACE=ADDRESS=SERVER[,SERVER...] ...

What hosts broadcast on an interface goes to each server as unicast from that address; what comes back to the address is
broadcast on the interface.
"""

import select
import socket
import sys

SERVER, CLIENT = 67, 68
EVERYBODY = "255.255.255.255"
IP_PKTINFO, SO_BINDTODEVICE = 8, 25
QUESTION, ANSWER = 1, 2
GIADDR = slice(24, 28)
"""Where a message holds the relay's address (RFC 2131 2)."""


def opened(interface: str, address: str) -> socket.socket:
    """A socket on the port of servers: at an interface, or at an address."""
    made = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)  # a server may be on the device too
    made.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
    made.setsockopt(socket.IPPROTO_IP, IP_PKTINFO, 1)
    if interface:
        made.setsockopt(socket.SOL_SOCKET, SO_BINDTODEVICE, interface.encode())
    made.bind((address, SERVER))
    return made


def main() -> None:
    asking: dict[socket.socket, tuple[str, list[str]]] = {}
    sending: dict[str, socket.socket] = {}
    broadcasting: dict[str, socket.socket] = {}
    for words in sys.argv[1:]:
        interface, address, named = words.split("=")
        link = opened(interface, "")
        asking[link] = address, named.split(",")
        broadcasting[address] = link
        sending.setdefault(address, opened("", address))
    print("ready", flush=True)
    while True:
        for one in select.select([*asking, *sending.values()], [], [])[0]:
            data, extra, _, _ = one.recvmsg(2048, 128)
            to = next((socket.inet_ntoa(value[8:12]) for _, kind, value in extra if kind == IP_PKTINFO), "")
            giaddr = socket.inet_ntoa(data[GIADDR])
            if data[0] == QUESTION and giaddr == "0.0.0.0" and one in asking and to == EVERYBODY:
                address, servers = asking[one]
                sent = data[:24] + socket.inet_aton(address) + data[28:]
                for server in servers:
                    try:
                        sending[address].sendto(sent, (server, SERVER))
                    except OSError:
                        continue  # no way there
            elif data[0] == ANSWER and giaddr in broadcasting:
                broadcasting[giaddr].sendto(data, (EVERYBODY, CLIENT))


main()
