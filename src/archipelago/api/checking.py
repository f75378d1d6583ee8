"""All pairs, what must hold, what is wrong, and the mends."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import partial
from typing import TYPE_CHECKING

from archipelago.api.arguments import checked
from archipelago.api.reading import named_text

if TYPE_CHECKING:
    from archipelago.api.reading import Source
    from archipelago.audit.result import AuditResult
    from archipelago.model.expectation import Expectation
    from archipelago.model.finding import Finding
    from archipelago.model.network import Network
    from archipelago.proof.mending import MendResult
    from archipelago.reachability.kept import Kept
    from archipelago.reachability.matrix import Matrix
    from archipelago.reachability.verdict import Verdicts


@checked
def audit(network: Network, *, quick: bool = False, accept_losses: bool = False) -> AuditResult:
    """What is wrong or risky in a network, worst first, each with the edits that mend it; what it expects and does not
    hold is among them. Every pair of hosts is decided: a pair that is cut off and that nothing explains is a finding
    too. Every mend was tried: it cuts off nothing that works and makes no other error.

    Args:
        network: the network.
        quick: leave out both, the pairs and the trial of the mends.
        accept_losses: offer mends, too, that cut off something that works.

    Returns:
        The findings, a tuple that prints as text and is true where none is an error; empty where there are none.

    Example:
        >>> import archipelago
        >>> print(archipelago.audit(archipelago.Network()))
        no findings: nothing wrong or risky was found
    """
    from archipelago.audit.registry import run, sort
    from archipelago.audit.result import AuditResult
    from archipelago.knowledge.index import index_network

    index = index_network(network)
    findings = run(index)
    if not quick and (network.hosts or network.expect):
        from archipelago.proof.audit import proved

        findings = proved(index, findings, run, accept_losses=accept_losses)
    elif network.expect:
        from archipelago.audit.promises import Broken, with_promises
        from archipelago.reachability.expect import check
        from archipelago.reachability.expect import findings as unkept

        verdicts = check(index.knowledge).verdicts
        causes = [() if verdict.finding is None else (verdict.finding,) for verdict in verdicts]
        findings = with_promises(
            findings, (Broken(verdicts[n].promise(n), one, causes[n]) for n, one in unkept(verdicts))
        )
    return AuditResult(sort(network, findings), network, quick=quick)


@checked
def check_policy(network: Network) -> Kept:
    """What a network's policy allows, beside what the network does: every pair of hosts, for every kind of traffic that
    the policy or a filter tells apart, in both families.

    Args:
        network: a network with a policy.

    Returns:
        The counts by VLAN and kind of traffic; `holds` says whether the policy is kept.

    Raises:
        QueryError: the network has no policy, or something in it is called as the outside is.

    Example:
        >>> import archipelago
        >>> archipelago.check_policy(archipelago.Network())
        Traceback (most recent call last):
        archipelago.errors.QueryError: the network has no 'policy'; write who may talk to whom
    """
    from archipelago.reachability.kept import kept

    return kept(network)


@checked
def matrix(
    network: Network,
    family: int | None = None,
    *,
    without: Sequence[str] = (),
    move: Sequence[str] = (),
    causes: bool = True,
    probe: str = "icmp",
    devices: bool = False,
) -> Matrix:
    """Decide every ordered pair of hosts, both ways, in arrays.

    Args:
        network: the network.
        family: 4 or 6; by default IPv4 for the pairs where both ends have it, else IPv6.
        without: parts to switch off first: devices, hosts, "DEVICE/PORT", "DEVICE/INTERFACE", cables, VLANs.
        move: hosts to plug in elsewhere first, each "HOST=DEVICE/PORT".
        causes: also say why what is not reached is not, grouped by mistake, with mends that were tried.
        probe: what is sent: `icmp` (an echo request), or the first packet to a port: `tcp/443`, `udp/53`.
        devices: also ask from and for devices' addresses; they are counted beside the hosts.

    Returns:
        The answer for every pair: by kind of host in boolean arrays of shape (kinds, kinds), by name on request.

    Raises:
        QueryError: there is no such part.

    Example:
        >>> import archipelago
        >>> network = archipelago.read_network('''format: archipelago-network/1
        ... devices: {quay: {kind: switch}}
        ... hosts: {a: {at: quay/p1, address: 10.44.0.2/24}, b: {at: quay/p2, address: 10.44.0.3/24}}
        ... ''')
        >>> found = archipelago.matrix(network)
        >>> print(found.headline)
        2 of 2 pairs reached
        >>> found["a", "b"]
        True
    """
    from archipelago.model.filters import parse_probe
    from archipelago.proof.all_pairs import all_pairs

    sent = [parse_probe(probe)]
    (answer,) = all_pairs(network, family, without, causes=causes, probes=sent, devices=devices, moves=move)
    return answer


@checked
def what_if(
    network: Network, parts: Iterable[str | Sequence[str]], family: int | None = None
) -> Iterator[tuple[str | Sequence[str], Matrix]]:
    """All pairs with each part, or each set of parts, switched off in turn; far cheaper than as many matrices.

    Args:
        network: the network.
        parts: what to switch off, as in `matrix`.
        family: as in `matrix`.

    Returns:
        Each part as it was given, with its matrix.

    Raises:
        QueryError: there is no such part.

    Example:
        >>> for part, answer in archipelago.what_if(network, ["slip", "gull"]):
        ...     print(part, answer)
        slip 0 of 2 pairs reached; 2 pairs cut off
        gull 0 of 2 pairs reached; 2 pairs cut off
    """
    from archipelago.reachability.matrix import what_if as decide

    return decide(network, parts, family)


@checked
def expectations(
    network: Network, expect: Iterable[Expectation | tuple[str, str, bool]] | None = None, family: int | None = None
) -> Verdicts:
    """Check what must hold; each verdict is true where it does, and its text says which pairs break it.

    Args:
        network: the network.
        expect: (source, target, reached) for VLANs, hosts, subnets, addresses or "outside"; by default what the network
            itself expects.
        family: as in `matrix`.

    Returns:
        A verdict for each.

    Raises:
        QueryError: an end does not exist.

    Example:
        >>> for verdict in archipelago.expectations(network, [("winch", "gull", True)]):
        ...     print(verdict)
        winch must reach gull: holds for the one pair
    """
    from archipelago.knowledge.known import know
    from archipelago.model.expectation import Expectation
    from archipelago.model.network import with_changes
    from archipelago.reachability.expect import check
    from archipelago.reachability.verdict import Verdicts

    asked = network
    if expect is not None:
        wanted = tuple(
            expectation if isinstance(expectation, Expectation) else Expectation(*expectation) for expectation in expect
        )
        asked = with_changes(network, expect=wanted)
    knowledge = know(asked)
    verdicts = check(knowledge, family).verdicts
    if not any(verdict.broken for verdict in verdicts):
        return Verdicts(verdicts)
    from archipelago.proof.causes import proved_verdicts

    return Verdicts(proved_verdicts(knowledge, verdicts))


@checked
def assert_expected(
    network: Network, expect: Iterable[Expectation | tuple[str, str, bool]] | None = None, family: int | None = None
) -> None:
    """Raise AssertionError, with every expectation that does not hold, for a team that keeps its network under test.

    Args:
        network: the network.
        expect: as in `expectations`.
        family: as in `matrix`.

    Raises:
        AssertionError: one does not hold; the text says which, and which pairs break it.
        QueryError: an end does not exist.

    Example:
        >>> archipelago.assert_expected(network, [("winch", "gull", True)])
    """
    broken = [str(expectation) for expectation in expectations(network, expect, family) if not expectation]
    if broken:
        raise AssertionError("\n".join(broken))


@checked
def mend(
    document: Source | Network,
    *,
    only: Sequence[str] = (),
    notes: bool = False,
    accept_losses: bool = False,
    chosen: Sequence[Finding] | None = None,
) -> MendResult:
    """Mend a network document: apply the mends of the audit's findings and look again, until nothing is left that can
    be mended.

    Args:
        document: a path, an open file, the text itself (a string with a newline in it), whose comments and order stay,
            or a network.
        only: severities, kinds of finding, devices, or "KIND@DEVICE"; by default every error and risk.
        notes: mend what is merely untidy, too, once no error is left.
        accept_losses: make mends, too, that cut off something that works.
        chosen: instead of all these, findings of the audit whose mends are to be made, each as it stands there.

    Returns:
        The new text, what was mended, and what is left.

    Raises:
        DocumentError: the text is not a network.
        QueryError: no finding is one of `only`.

    Example:
        >>> broken = archipelago.network_text(network).replace("access: crew", "access: yard")
        >>> mended = archipelago.mend(broken)
        >>> print(mended.headline)
        1 mend made; left: no findings: nothing wrong or risky was found
        >>> [finding.mend for finding in mended.made]
        ['make slip/p1 an access port of crew']
    """
    from archipelago.proof.mending import make
    from archipelago.proof.mending import mend as run

    source, text = named_text(document)
    if chosen is not None:
        return make(text, source, chosen, partial(audit, accept_losses=accept_losses))
    return run(text, source, list(only), partial(audit, accept_losses=accept_losses), notes=notes)
