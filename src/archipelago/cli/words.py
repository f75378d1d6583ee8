"""The command line's words turned into values."""

from __future__ import annotations

import re

from archipelago.errors import QueryError

Needs = dict[str, int | tuple[int, int]]
CarveWords = tuple[list[str], Needs, dict[str, int], dict[str, str], float]


def carve_words(words: list[str], pins: list[str], headroom: str) -> CarveWords:
    """Spaces, needs, ids, pins and headroom from what `carve` was given.

    Raises:
        QueryError: with everything that is not understood.
    """
    wrong: list[str] = []
    spaces: list[str] = []
    needs: Needs = {}
    ids: dict[str, int] = {}
    for word in words:
        if "=" not in word:
            spaces.append(word)
            continue
        match = re.fullmatch(r"([A-Za-z][A-Za-z0-9._-]*)(?::(\d{1,4}))?=(\d{1,8})(?:\.\.(\d{1,8}))?", word)
        if match is None:
            wrong.append(
                f"'{word}' is not a need; write NAME=HOSTS or NAME:ID=HOSTS, such as tickets=45 or tickets:210=45; "
                "where there will be more, NAME=HOSTS..LATER, such as tickets=45..90"
            )
            continue
        if match[1] in needs:
            wrong.append(f"'{match[1]}' is asked for twice; each need has a name of its own")
        needs[match[1]] = (int(match[3]), int(match[4])) if match[4] else int(match[3])
        if match[2]:
            ids[match[1]] = int(match[2])
    if not spaces:
        wrong.append("there is no space to carve from; give at least one prefix such as 10.44.0.0/20")
    if not needs:
        wrong.append("nothing is asked for; add needs such as tickets=45")
    pinned: dict[str, str] = {}
    for word in pins:
        name, equals, prefix = word.partition("=")
        if not equals or name not in needs:
            wrong.append(f"'{word}' pins nothing; write NAME=PREFIX with the NAME of a need")
        if name in pinned:
            wrong.append(f"'{name}' is pinned twice; a need has one pinned subnet")
        pinned[name] = prefix
    share = re.fullmatch(r"(\d{1,4}(?:\.\d+)?)%", headroom)
    if share is None:
        wrong.append(f"'{headroom}' is not a share; write it like 25%")
    if wrong:
        raise QueryError("\n".join(wrong))
    return spaces, needs, ids, pinned, float(share[1]) / 100 if share else 0.0


def two_ends(words: str) -> tuple[str, str]:
    """The two ends of `FROM,TO`.

    Raises:
        QueryError: the words are not that.
    """
    source, comma, target = words.partition(",")
    if not comma:
        raise QueryError(f"'{words}' is not FROM,TO; name two ends, such as kiosk-a,mess")
    return source, target
