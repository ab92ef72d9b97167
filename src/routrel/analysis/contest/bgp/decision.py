"""BGP's decision in plain code: comparison after comparison, in the order of the network file's page.

RFC 4271 section 9.1.2, 4456 section 9. ``routing/bgp/decision`` does the same over arrays, apart from this.
"""

from collections.abc import Callable
from dataclasses import dataclass

from routrel.analysis.contest.bgp.path import Path


@dataclass(frozen=True, slots=True)
class Ranks:
    """A path in every comparison; ``group`` is whose MEDs it is compared with, ``turn`` its place in line."""

    steps: dict[str, tuple[int, str]]
    group: int | None
    turn: tuple[int, int]


ROUND_RULES: dict[str, str] = {
    "weight": "the highest weight",
    "local preference": "the highest local preference (RFC 4271 section 9.1.1)",
    "locally originated": "what the router says itself",
    "AS path length": "the shortest AS path (section 9.1.2.2 a)",
    "origin": "the lowest origin: igp, egp, incomplete (b)",
    "MED": "the lowest MED among paths of one neighboring AS (c)",
    "external over internal": "external before internal (d)",
    "metric to the next hop": "the lowest metric to the next hop (e)",
    "oldest": "the session that has been up longest",
    "router id": "the lowest router id, the originator's where reflected (f, RFC 4456 section 9)",
    "cluster list length": "the shortest cluster list (RFC 4456 section 9)",
    "neighbor address": "the lowest neighbor address (g)",
}
MED_BETWEEN_AS = "the lowest MED, whatever AS a path comes from, as 'compare_med_between_as' says"
ACCIDENTAL = ("oldest", "router id", "cluster list length", "neighbor address")
"""Comparisons that only break a tie: nobody chose."""

AFTER_MED = (
    "external over internal",
    "metric to the next hop",
    "oldest",
    "router id",
    "cluster list length",
    "neighbor address",
)

Lost = Callable[[str, list[int], list[int]], None]
"""Told of a round: its name, who stood, who lost."""


def eliminate(ranked: list[Ranks], standing: list[int], in_turn: bool, lost: Lost | None = None) -> list[int]:
    """The comparisons in order until one is left; ``standing`` are places in ``ranked``."""
    for name in ROUND_RULES:
        if len(standing) < 2:
            break
        if any(name not in ranked[index].steps for index in standing):
            continue
        if name == "MED":
            out = [
                index
                for index in standing
                if any(
                    ranked[other].group == ranked[index].group
                    and ranked[other].steps[name][0] < ranked[index].steps[name][0]
                    for other in standing
                )
            ]
            if in_turn:
                winner = _one_by_one(ranked, standing)
                out = [index for index in standing if index != winner]
        else:
            best = min(ranked[index].steps[name][0] for index in standing)
            out = [index for index in standing if ranked[index].steps[name][0] > best]
        if lost is not None:
            lost(name, standing, out)
        standing = [index for index in standing if index not in out]
    return standing


def _one_by_one(ranked: list[Ranks], standing: list[int]) -> int:
    """Without deterministic MED: the youngest first, the winner of each pair against the next."""
    champion, *others = sorted(standing, key=lambda index: ranked[index].turn)
    for other in others:
        ours, theirs = ranked[champion], ranked[other]
        if ours.group == theirs.group and ours.steps["MED"][0] != theirs.steps["MED"][0]:
            wins = theirs.steps["MED"][0] < ours.steps["MED"][0]
        else:
            names = [name for name in AFTER_MED if name in ours.steps]
            wins = [theirs.steps[n][0] for n in names] < [ours.steps[n][0] for n in names]
        champion = other if wins else champion
    return champion


def med_text(path: Path, is_compared_between_as: bool) -> str:
    """A MED with the AS among whose paths it counts, where it does not count among all."""
    text = "none" if path.med is None else str(path.med)
    if is_compared_between_as:
        return text
    return f"{text} of AS {path.as_path[0]}" if path.as_path else f"{text} of the own AS"
