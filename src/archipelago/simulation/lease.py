"""How a host is leased an address, asked frame by frame."""

from __future__ import annotations

from dataclasses import dataclass

from archipelago.addressing.values import Address
from archipelago.answer import Answer
from archipelago.diagnosis.leased import leased_wrongly
from archipelago.diagnosis.no_lease import no_lease
from archipelago.knowledge.devices import Node
from archipelago.knowledge.hearing import Listener
from archipelago.knowledge.index import NetworkIndex
from archipelago.model.finding import Finding
from archipelago.simulation.build import Simulation
from archipelago.simulation.events import Event
from archipelago.simulation.frames import LeaseMessage
from archipelago.simulation.leasing import Exchange


@dataclass(frozen=True, slots=True, repr=False)
class LeaseResult(Answer):
    """What became of a host that asked for a lease: the address with its prefix length, the gateway, the server and
    the relay (DEVICE/INTERFACE), each None where there is none; whether the renewal was acknowledged (None: there was
    none); who heard the question; what happened; what is wrong, where something is."""

    SHOWN = "lease.LEASE"

    host: str
    address: str | None
    gateway: str | None
    server: str | None
    relay: str | None
    renewed: bool | None
    heard: tuple[Listener, ...]
    events: tuple[Event, ...]
    finding: Finding | None

    @property
    def leased(self) -> bool:
        """Whether it was given an address."""
        return self.address is not None

    @property
    def headline(self) -> str:
        """The answer in one line."""
        if not self.leased:
            return f"NO LEASE: {self.host} asks and gets no address"
        by = f" by the relay {self.relay}" if self.relay else ""
        gateway = f"the gateway {self.gateway}" if self.gateway else "no gateway"
        return f"LEASED: {self.host} gets {self.address} and {gateway} from {self.server}{by}"

    @property
    def why_not(self) -> tuple[str, ...]:
        """What is wrong, and what mends it; nothing where nothing is."""
        if self.finding is None:
            return ()
        found = self.finding
        return (f"where: at {found.at}", f"why:   {found.says} [{found.kind}]", f"mend:  {found.mend}")

    def __bool__(self) -> bool:
        return self.leased


def lease(index: NetworkIndex, node: Node) -> LeaseResult:
    """Let a host ask for its lease, from cold tables, when its turn has come; then let it renew.

    Args:
        index: the network, indexed.
        node: a host that asks (`address: dhcp`).
    """
    leases = index.knowledge.leases
    simulation = Simulation(index.knowledge, cold=node.name)
    exchange = Exchange(simulation, leases, node.name)
    if not index.knowledge.written.hosts[node.name].dhcp_pools:
        exchange.run()
        exchange.renew()
    simulation.world.run()
    got = exchange.acknowledged
    storm = simulation.world.storm is not None
    finding = None
    if got is None or storm:
        got, finding = None, no_lease(index, index.knowledge.nodes[node.name])
    else:
        finding = leased_wrongly(index, node.name)
    return LeaseResult(
        host=node.name,
        address=f"{got.address}/{got.length}" if got is not None else None,
        gateway=_text(got.gateway) if got is not None else None,
        server=got.by if got is not None else None,
        relay=_relay(got) if got is not None else None,
        renewed=exchange.renewed if got is not None else None,
        heard=leases.listeners(node.name),
        events=simulation.world.events(),
        finding=finding,
    )


def _text(address: Address | None) -> str | None:
    return str(address) if address is not None else None


def _relay(got: LeaseMessage) -> str | None:
    return "/".join(got.relay) if got.relay is not None else None
