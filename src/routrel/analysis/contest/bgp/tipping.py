"""Tipping points of BGP: what it takes for a path that lost to win.

One attribute of one path is moved, as an import policy here (or, for what neighbours send, their export
policy) could; the decision is held again among the paths that are here. What others would then hear of it
is not followed.
"""

from collections.abc import Callable, Iterator

from routrel.analysis.contest.candidates import Candidate, Contest, PathTip
from routrel.model.fields import replace

HIGHEST = 0xFFFFFFFF
HIGHEST_WEIGHT = 65535
MOST_PREPENDS = 50
FURTHEST = 2**31


Again = Callable[[list[Candidate]], Contest]
"""The same contest among changed candidates."""


def path_tips(again: Again, contest: Contest) -> Iterator[PathTip]:
    """Of each BGP path that lost to another, the least changes with which it would be the best."""
    best = contest.winners[0]
    for index, loser in enumerate(contest.candidates):
        if loser.protocol != "bgp" or loser.out or index in contest.winners or not loser.next_hops:
            continue
        yield from _for_loser(again, contest, best, index)


def _for_loser(again: Again, contest: Contest, best: int, loser: int) -> Iterator[PathTip]:
    ours, theirs = contest.candidates[loser], contest.candidates[best]

    def tip(moved: int, step: str, words: str, sign: int, to: int) -> Iterator[PathTip]:
        """Move one path's value from what it is towards ``to``; ``sign`` makes a value a rank."""
        candidate = contest.candidates[moved]
        if step not in candidate.ranks:
            return
        now = sign * candidate.ranks[step][0]

        def held(value: int) -> Contest:
            return _again(again, contest, moved, step, sign * value)

        found = _nearest(lambda value: held(value).winners[:1] == (loser,), now, to)
        if found is not None:
            yield PathTip(f"{words} of the path {candidate.origin}", candidate, now, found, to > now, held(found))

    yield from tip(loser, "local preference", "local preference", -1, HIGHEST)
    yield from tip(loser, "weight", "weight", -1, HIGHEST_WEIGHT)
    yield from tip(loser, "MED", "MED", 1, 0)
    if theirs.protocol != "bgp" or not theirs.next_hops:
        return
    yield from tip(best, "MED", "MED", 1, HIGHEST)
    length = theirs.ranks["AS path length"][0] if "AS path length" in theirs.ranks else 0
    yield from tip(best, "AS path length", "AS path length", 1, length + MOST_PREPENDS)
    if ours.kind == theirs.kind:
        yield from tip(loser, "metric to the next hop", "metric to the next hop", 1, 0)
        yield from tip(best, "metric to the next hop", "metric to the next hop", 1, FURTHEST)


def _again(again: Again, contest: Contest, moved: int, step: str, rank: int) -> Contest:
    """The same contest with one value of one path changed."""
    candidates = []
    for index, one in enumerate(contest.candidates):
        fresh = replace(one, beaten=-1, margin="")
        if index == moved:
            fresh.ranks = {**one.ranks, step: (rank, str(abs(rank)))}
        candidates.append(fresh)
    return again(candidates)


def _nearest(wins: Callable[[int], bool], now: int, to: int) -> int | None:
    """The value nearest to ``now`` on the way to ``to`` at which the path wins; None where it never does."""
    if now == to or wins(now) or not wins(to):
        return None
    lost, won = now, to
    while abs(won - lost) > 1:
        middle = (lost + won) // 2
        if wins(middle):
            won = middle
        else:
            lost = middle
    return won
