"""Where the gateways stand: subinterfaces on a router's port, VLAN interfaces on an l3switch, whole router ports."""

from __future__ import annotations

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
