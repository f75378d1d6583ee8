"""The kinds of finding about filters, and about the policy that they carry out."""

from __future__ import annotations

from archipelago.diagnosis.kind import ALWAYS, NEVER, OFTEN, Kind

FILTERS = (
    Kind(
        "policy-open",
        "error",
        "the network lets through what the policy forbids",
        "what the policy says of who may talk to whom",
        OFTEN,
    ),
    Kind(
        "policy-closed",
        "error",
        "a filter ends what the policy allows, or the answer to it",
        "what the policy says of who may talk to whom",
        OFTEN,
    ),
    Kind(
        "policy-answers",
        "risk",
        "a line for answers lets the other side begin, to the ports that answers go to",
        "what the policy says, for UDP to ports from 49152 on",
        NEVER,
    ),
    Kind(
        "policy-line-hidden",
        "risk",
        "a line of the policy that never decides, because earlier ones say otherwise",
        "what whoever wrote it believes",
        NEVER,
    ),
    Kind(
        "policy-line-unneeded",
        "note",
        "a line of the policy that decides nothing",
        "nothing; it misleads whoever reads the policy",
        ALWAYS,
    ),
    Kind(
        "policy-in-part",
        "note",
        "more kinds of traffic, or addresses of devices, than were asked",
        "some were not looked at",
        NEVER,
    ),
    Kind(
        "line-unmet",
        "risk",
        "a line of a filter that no packet meets where the filter stands",
        "what whoever wrote it believes: it has nothing to {does}",
        NEVER,
    ),
    Kind("filter-unnamed", "note", "a filter that no interface names", "nothing: it sees no packet", NEVER),
    Kind(
        "management-filtered",
        "risk",
        "filters at all interfaces of a device that leave no way to manage it",
        "the next change of {device} is made at its console",
        NEVER,
    ),
    Kind(
        "filter-idle",
        "risk",
        "a filter where no traffic between hosts, or with the outside, passes",
        "what it is to keep out passes elsewhere",
        OFTEN,
    ),
    Kind(
        "line-hidden",
        "risk",
        "a line of a filter that an earlier one leaves nothing to, and undoes",
        "what it is to {does} is decided otherwise",
        NEVER,
    ),
    Kind(
        "line-unneeded",
        "note",
        "a line of a filter that an earlier one leaves nothing to, and does the same",
        "nothing; it misleads whoever reads the filter",
        ALWAYS,
    ),
    Kind(
        "filtered",
        "note",
        "a filter ends what is asked about; whether that is meant, the plan says",
        "nothing that is not meant to end",
        OFTEN,
    ),
)
