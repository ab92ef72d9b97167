"""BGP's rounds among candidates: the decision in plain code, told round by round, then multipath."""

from routrel.analysis.contest.bgp.decision import ACCIDENTAL, MED_BETWEEN_AS, ROUND_RULES, Ranks, eliminate
from routrel.analysis.contest.candidates import Round
from routrel.analysis.contest.rounds import Elimination
from routrel.routing.bgp.speakers import Speaker

Heard = tuple[str, list[int], list[int]]
"""A round of BGP: its name, who stood in it, who lost."""


def within_bgp(elimination: Elimination, speaker: Speaker, group: list[int]) -> list[int]:
    """BGP's rounds; several are left where multipath takes equal paths besides the best."""
    ranked = [Ranks(one.ranks, one.med_group, one.turn) for one in elimination.candidates]
    in_turn = not speaker.bgp.decision.deterministic_med and not speaker.bgp.decision.compare_med_between_as
    heard: list[Heard] = []
    best = eliminate(ranked, group, in_turn, lambda *told: heard.append(told))[0]
    equal = [best]
    limit = (
        speaker.bgp.external_paths if elimination.candidates[best].kind == "external" else speaker.bgp.internal_paths
    )
    if elimination.candidates[best].next_hops and limit > 1:
        equal += [index for index in _equal_to(elimination, best, group, heard, in_turn) if index != best][: limit - 1]
    for name, stood, lost in heard:
        gone = [index for index in lost if index not in equal]
        values = [(index, *elimination.candidates[index].ranks[name]) for index in stood]
        if name == "MED" and in_turn:
            rule = "pair by pair, the youngest first: MED within one neighboring AS, else what follows"
        elif name == "MED" and speaker.bgp.decision.compare_med_between_as:
            rule = MED_BETWEEN_AS
        else:
            rule = ROUND_RULES[name]
        if not gone and len({rank for _, rank, _ in values}) < 2:
            continue
        counts = name in ("weight", "local preference", "AS path length", "MED", "metric to the next hop")
        chosen = name not in ACCIDENTAL
        elimination.record(
            Round(name, "bgp", rule, tuple((index, text) for index, _, text in values), tuple(gone), chosen),
            {index: _margin(elimination, name, index, stood) for index in gone},
            counts=counts and not in_turn,
        )
    return equal


def _margin(elimination: Elimination, name: str, index: int, stood: list[int]) -> int:
    """By how much a path lost a round of BGP; MEDs count within their group."""
    one = elimination.candidates[index]
    rivals = stood
    if name == "MED":
        rivals = [other for other in stood if elimination.candidates[other].med_group == one.med_group]
    return one.ranks[name][0] - min(elimination.candidates[other].ranks[name][0] for other in rivals)


def _equal_to(elimination: Elimination, best: int, group: list[int], heard: list[Heard], in_turn: bool) -> list[int]:
    """The paths that multipath may take: those the comparisons through the next hop's metric leave."""
    names = list(ROUND_RULES)
    last = names.index("metric to the next hop")
    gone = {
        index
        for name, _, lost in heard
        if names.index(name) <= last and not (in_turn and name == "MED")
        for index in lost
    }
    ours, found = elimination.candidates[best], []
    for index in group:
        theirs = elimination.candidates[index]
        same = all(theirs.ranks[name][0] == ours.ranks[name][0] for name in names[last - 1 : last + 1])
        if theirs.med_group == ours.med_group:
            same = same and theirs.ranks["MED"][0] == ours.ranks["MED"][0]
        if index not in gone and theirs.next_hops and same:
            found.append(index)
    return found
