"""Where the gateways stand: subinterfaces on a router's port, VLAN interfaces on an l3switch, whole router ports."""

from __future__ import annotations

from archipelago.addressing.values import Address, InterfaceAddress
from archipelago.design.draft import Draft, vlan_of
from archipelago.design.wiring import Wiring
from archipelago.model.parts import End, Interface, Port, Subinterface, VlanInterface


def place(draft: Draft, wiring: Wiring) -> None:
    """One interface for each VLAN, named and numbered by convention; names in the old network stay."""
    counters: dict[str, int] = {}
    for vlan, gateway in wiring.serving.items():
        name = draft.name_of(vlan)
        addresses = draft.gateway_addresses(name)
        device = gateway.device
        if gateway.shared:
            for number, member in enumerate(gateway.devices):
                _share(draft, vlan, member, number)
            continue
        if gateway.port is None:
            label = _old_name(draft, device, vlan) or _free(draft, device, f"{name}-gw")
            draft.interfaces[device][label] = VlanInterface(label, vlan, addresses)
            draft.decide(f"{device}/{label}", f"VLAN interface of {name}", f"the brief places its gateway at {device}")
            continue
        end = End(device, gateway.port)
        if gateway.untagged:
            draft.set_port(end, Port(end.port, addresses=addresses))
            draft.decide(str(end), f"untagged port of {name}", "the brief gives it the whole port")
            continue
        draft.ports[device].setdefault(end.port, Port(end.port))
        label = _old_name(draft, device, vlan) or ""
        if not label:
            counters[device] = counters.get(device, 0) + 1
            while draft.brief.conventions.subinterface == "counted" and f"{end.port}.{counters[device]}" in _old_names(
                draft, device
            ):
                counters[device] += 1
            number = vlan if draft.brief.conventions.subinterface == "by-vlan-id" else counters[device]
            label = _free(draft, device, f"{end.port}.{number}")
        draft.interfaces[device][label] = Subinterface(label, end.port, vlan, False, addresses)
        draft.decide(
            f"{device}/{label}",
            f"subinterface of {name}, tag {vlan}",
            f"numbered {draft.brief.conventions.subinterface}",
        )


def _share(draft: Draft, vlan: int, device: str, number: int) -> None:
    """A VLAN interface of one of those that share a gateway, with an address of its own beside the shared one; one that
    it had before stays."""
    name = draft.name_of(vlan)
    kept_name = _old_name(draft, device, vlan)
    before = _old(draft, device).get(kept_name or "")
    step = 1 if draft.brief.conventions.gateway.offset > 0 else -1
    taken = {own.address for (_, vlan_name), owned in draft.own.items() if vlan_name == name for own in owned}
    taken |= {own.address for host in draft.brief.hosts.values() for own in host.addresses}
    if draft.old is not None:
        taken |= {own.address for host in draft.old.hosts.values() for own in host.addresses}
        managed = (part for device in draft.old.devices.values() for part in device.interfaces.values())
        taken |= {own.address for part in managed if vlan_of(part) == vlan for own in part.addresses}
    addresses = []
    for subnet in draft.subnets(name):
        assert subnet.gateway is not None
        held = [own for own in (before.addresses if before else ()) if own.prefix == subnet.prefix]
        kept = next((own for own in held if own.address != subnet.gateway), None)
        value = subnet.gateway.value + step * (1 + number)
        while Address(subnet.prefix.version, value) in taken and subnet.first.value < value < subnet.last.value:
            value += step  # a host has it, or another that shares
        addresses.append(kept or InterfaceAddress(subnet.prefix.version, value, subnet.prefix.length))
    draft.own[device, name] = tuple(addresses)
    label = kept_name or _free(draft, device, f"{name}-gw")
    draft.interfaces[device][label] = VlanInterface(label, vlan, tuple(addresses))
    draft.decide(f"{device}/{label}", f"VLAN interface of {name}", "the brief lets it share the gateway")


def _free(draft: Draft, device: str, name: str) -> str:
    while name in draft.interfaces[device] or name in draft.ports[device]:
        name += "-a"
    return name


def _old(draft: Draft, device: str) -> dict[str, Interface]:
    if draft.old is None or device not in draft.old.devices:
        return {}
    return dict(draft.old.devices[device].interfaces)


def _old_names(draft: Draft, device: str) -> set[str]:
    return set(_old(draft, device))


def _old_name(draft: Draft, device: str, vlan: int) -> str | None:
    """How the old network calls the VLAN's interface on that device."""
    for name, interface in _old(draft, device).items():
        if vlan_of(interface) == vlan and name not in draft.interfaces[device]:
            return name
    return None
