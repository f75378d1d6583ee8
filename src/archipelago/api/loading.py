"""What links carry."""

from __future__ import annotations

from typing import TYPE_CHECKING

from archipelago.api.arguments import checked
from archipelago.errors import QueryError

if TYPE_CHECKING:
    from archipelago.load.result import Load
    from archipelago.model.network import Network


@checked
def traffic(
    network: Network,
    *,
    failures: bool = False,
    each: float | None = None,
    others: float | None = None,
    outside: float | None = None,
    answers: float | None = None,
) -> Load:
    """What every link carries in each direction, of what the network's `traffic:` says that hosts send; where it says
    nothing, of a rule of thumb, which the result tells. Every packet goes the way that it goes in this network: past
    blocked ports, by active gateways, over the member of an aggregate that sends. What a demand asks for is spread
    evenly over the pairs of hosts that reach each other; where none does, it is dropped.

    Args:
        network: the network.
        failures: also break each device, cable and port that leads outside in turn, every pair sending what it did.
        each: the rule of thumb, also where the network has demands: bits per second that a host sends; 2,000,000.
        others: which share of it goes to other VLANs; 0.5.
        outside: which share goes outside; 0.3; the rest stays in its VLAN.
        answers: which share of all that comes back; 0.5.

    Returns:
        The links, the fullest first; demands; what failures do. Rates are in bits per second.

    Raises:
        QueryError: there is no host, an end of a demand stands for none, or a share is none.

    Example:
        >>> text = '''format: archipelago-network/1
        ... devices: {quay: {kind: switch}, slip: {kind: switch}}
        ... hosts: {a: {at: quay/p1, address: 10.44.0.2/24}, b: {at: slip/p1, address: 10.44.0.3/24}}
        ... cables: [quay/p9 ~ slip/p9]
        ... traffic: [{from: a, to: b, rate: 40M, answers: 10%}]
        ... '''
        >>> carried = archipelago.traffic(archipelago.read_network(text))
        >>> carried["quay/p9"].to_b, carried["quay/p9"].to_a
        (40000000.0, 4000000.0)
    """
    from archipelago.load.failures import with_failures
    from archipelago.load.loading import Loading, RuleOfThumb

    usual = RuleOfThumb()
    given = {"each": each, "others": others, "outside": outside, "answers": answers}
    written = {name: value for name, value in given.items() if value is not None}
    rule = RuleOfThumb(**{name: written.get(name, getattr(usual, name)) for name in given}) if written else None
    if rule is not None and not (
        rule.each >= 0 and min(rule.others, rule.outside) >= 0 and rule.others + rule.outside <= 1 and rule.answers >= 0
    ):
        raise QueryError("shares are 0 to 1, and those of other VLANs and of the outside together at most 1")
    loading = Loading(network, rule)
    return with_failures(loading) if failures else loading.load()
