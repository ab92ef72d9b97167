"""A contest as plain data, in the shape that docs/command-line.md gives, and as lines of text."""

from collections.abc import Iterator

from routrel.analysis.answers import Json, next_hop_json, place_json
from routrel.analysis.contest.absence import trails
from routrel.analysis.contest.candidates import Candidate, Contest
from routrel.analysis.contest.explainer import Explainer
from routrel.analysis.contest.paths import Leg, Way
from routrel.analysis.contest.tipping import Outcome, TippingPoint, ports_left_out, tipping_points
from routrel.analysis.contest.trail import Trail
from routrel.collecting import collecting_later
from routrel.model.addresses import Address, Prefix
from routrel.routing.solve import Solved

MOST_UNSENT = 60
"""Paths never sent that are listed: a reflector's hundreds of clients hold more than anyone reads."""


class WhyError(Exception):
    """A prefix that cannot be asked about; the message says why."""


def parse_prefix(text: str) -> Prefix | Address:
    """A prefix, or an address to look up; raises ``WhyError``."""
    try:
        return Prefix.parse(text) if "/" in text else Address.parse(text)
    except ValueError as error:
        raise WhyError(str(error)) from None


class WhyAnswerer:
    """Answers why a route stands in a table, or why none does."""

    def __init__(self, solved: Solved):
        self.solved = solved
        self.explainer = Explainer(solved)

    @collecting_later()
    def why_json(self, instance: int, asked: Prefix | Address, with_tipping: bool = True) -> Json:
        """The contest for a prefix, or for the longest match of an address."""
        prefix, note = self._settle(instance, asked)
        found = self.solved.topology.instances[instance]
        answer: Json = {
            "device": self.solved.topology.devices[found.device].name,
            "vrf": found.vrf,
            "asked": str(asked),
            "prefix": None if prefix is None else str(prefix),
            "note": note,
            "winner": None,
            "candidates": [],
            "rounds": [],
            "notes": [],
            "tipping": [],
            "trails": [],
            "unsent": [],
            "covered_by": None,
        }
        if prefix is None:
            return answer
        contest = self.explainer.contest(instance, prefix)
        answer["candidates"] = [self._candidate(contest, index) for index in range(len(contest.candidates))]
        answer["rounds"] = [
            {
                "name": one.name,
                "scope": one.scope,
                "rule": one.rule,
                "chosen": one.chosen,
                "values": [{"candidate": index, "value": value} for index, value in one.values],
                "lost": list(one.lost),
            }
            for one in contest.rounds
        ]
        unsent = self._unsent(instance, prefix)
        answer["unsent"] = unsent[:MOST_UNSENT]
        answer["notes"] = [*contest.notes, *self._notes(prefix), *self._doubts(contest)]
        if len(unsent) > MOST_UNSENT:
            answer["notes"].append(f"neighbors hold {len(unsent) - MOST_UNSENT} more paths that they do not send here")
        if contest.winners:
            answer["winner"] = self._winner(contest)
            left_out = ports_left_out(self.explainer, contest)
            if left_out:
                text = f"tipping points are looked for on the nearest interfaces; {left_out} farther ones are left out"
                answer["notes"].append(text)
            if with_tipping:
                answer["tipping"] = [self._tipping(point) for point in tipping_points(self.explainer, contest)]
        else:
            answer["trails"] = [self._trail(trail) for trail in trails(self.explainer, contest)]
            covering = self.solved.lookup(instance, Address(prefix.family, prefix.network))
            answer["covered_by"] = None if covering is None else str(covering.prefix)
        return answer

    def tipping_json(self, instance: int, asked: Prefix | Address) -> list[Json]:
        """The tipping points alone, which take longer than the contest."""
        prefix, _ = self._settle(instance, asked)
        if prefix is None:
            return []
        contest = self.explainer.contest(instance, prefix)
        return [self._tipping(point) for point in tipping_points(self.explainer, contest)]

    def _settle(self, instance: int, asked: Prefix | Address) -> tuple[Prefix | None, str]:
        """The prefix that is meant, and a note where it is not the one that was asked."""
        name = self.solved.topology.instance_name(instance)
        if isinstance(asked, Address):
            route = self.solved.lookup(instance, asked)
            if route is not None:
                return route.prefix, f"the longest match for {asked} on {name} is {route.prefix}"
            prefix = self.explainer.told_of(asked)
            if prefix is not None:
                return prefix, f"{name} has no route for {asked}; the longest prefix that others have is {prefix}"
            return None, f"no device of this network has a route for {asked}"
        if asked in self.solved.prefixes.number:
            return asked, ""
        covering = self.solved.lookup(instance, Address(asked.family, asked.network))
        if covering is not None and covering.prefix.covers(asked):
            return None, f"no device of this network has {asked}; on {name} {covering.prefix} covers it"
        return None, f"no device of this network has {asked}, and nothing on {name} covers it"

    def _notes(self, prefix: Prefix) -> list[str]:
        notes = []
        unsettled = self.solved.unsettled
        if unsettled is not None and prefix in unsettled.prefixes:
            how = "was not followed to its end" if unsettled.is_cut else "never settles"
            notes.append(f"redistribution {how} for this prefix: the table shown is that of one moment")
        elif self.solved.settling.depends_on_order and (
            self.solved.representatives.column_of(prefix) in self.solved.settling.contested[1]
        ):
            notes.append("which router redistributes this prefix depends on who acts first; one stable state is shown")
        bgp = self.solved.bgp.propagation
        column = self.solved.representatives.column_of(prefix)
        if bgp is not None and column in bgp.unstable.columns:
            notes.append("BGP never settles for this prefix: the paths shown are those of one moment")
        elif bgp is not None and column in bgp.ordered:
            notes.append("BGP has several stable states for this prefix, by who speaks first; one is shown")
        return notes

    def _doubts(self, contest: Contest) -> list[str]:
        protocols = dict.fromkeys(one.protocol for one in contest.candidates)
        return [text for name in protocols for text in self.solved.doubts_about(contest.instance, name)]

    def _unsent(self, instance: int, prefix: Prefix) -> list[Json]:
        """BGP paths that neighbours hold and never sent to an instance."""
        found: list[Json] = []
        for solution, process in self.solved.processes_of(instance):
            if solution is self.solved.bgp and prefix.family in process.families:
                plain = self.explainer.bgp(prefix)
                for channel, path, refusal in plain.unsent(process.number):
                    one = {
                        "neighbor": str(channel.receiving.neighbor.address),
                        "device": plain.device(channel.sender).name,
                        "as_path": " ".join(map(str, path.as_path)),
                        "reason": refusal.text,
                        "place": place_json(refusal.place),
                    }
                    if one not in found:
                        found.append(one)
        return found

    def _winner(self, contest: Contest) -> Json:
        first = contest.candidates[contest.winners[0]]
        return {
            "candidates": list(contest.winners),
            "protocol": first.protocol,
            "kind": first.kind,
            **_numbers(first),
            "action": first.action,
            "next_hops": [next_hop_json(self.solved, hop) for hop in contest.next_hops],
        }

    def _candidate(self, contest: Contest, index: int) -> Json:
        one: Candidate = contest.candidates[index]
        return {
            "protocol": one.protocol,
            "process": one.process if one.process not in ("", "default") else None,
            "kind": one.kind,
            **_numbers(one),
            "tag": one.tag,
            "action": one.action,
            "origin": one.origin,
            "origin_device": one.origin_device or None,
            "place": place_json(one.place),
            "attributes": [{"name": name, "value": value} for name, value in one.attributes.items()],
            "next_hops": [next_hop_json(self.solved, hop) for hop in one.next_hops],
            "ways": [self._way(way) for way in one.ways],
            "detour": one.is_detour,
            "state": "out" if one.out else "winner" if index in contest.winners else "lost",
            "out": one.out or None,
            "lost_in": one.beaten if one.beaten >= 0 and not one.out else None,
            "margin": one.margin or None,
        }

    def _way(self, way: Way) -> Json:
        return {"total": way.total, "legs": [self._leg(leg) for leg in way.legs]}

    def _leg(self, leg: Leg) -> Json:
        if leg.port < 0:
            return {"device": None, "interface": None, "cost": leg.cost, "what": leg.what}
        name = self.solved.topology.ports[leg.port].name
        return {"device": name.device, "interface": name.interface, "cost": leg.cost, "what": ""}

    def _outcome(self, outcome: Outcome) -> Json:
        return {
            "protocol": outcome.protocol or None,
            "kind": outcome.kind,
            "action": outcome.action or None,
            "next_hops": [next_hop_json(self.solved, hop) for hop in outcome.next_hops],
        }

    def _tipping(self, point: TippingPoint) -> Json:
        return {
            "what": point.what,
            "device": point.device,
            "now": point.now,
            "value": point.value,
            "direction": "above" if point.above else "below",
            "becomes": self._outcome(point.becomes),
            "beyond": None if point.beyond is None else self._outcome(point.beyond),
            "place": place_json(point.place),
            "message": f"{point.what} on {point.device}, now {point.now}: moves at {point.value} and"
            f" {'above' if point.above else 'below'}",
        }

    def _trail(self, trail: Trail) -> list[Json]:
        return [
            {
                "device": self.solved.topology.instance_name(step.instance),
                "message": step.text,
                "stopped": step.stopped,
                "place": place_json(step.place),
                "other_places": [place_json(place) for place in step.others],
            }
            for step in trail.steps
        ]


def hops_text(hops: list[Json]) -> str:
    """Next hops in words."""
    return ", ".join(
        " ".join(filter(None, (hop["address"], "by", hop["interface"], f"({hop['device']})" * bool(hop["device"]))))
        for hop in hops
    )


def outcome_text(outcome: Json) -> str:
    """An outcome in words."""
    if outcome["protocol"] is None:
        return "no route"
    kind = f" {outcome['kind']}" if outcome["kind"] else ""
    return f"{outcome['protocol']}{kind}, {hops_text(outcome['next_hops']) or outcome['action']}"


def _numbers(candidate: Candidate) -> Json:
    values = {"preference": candidate.preference, "metric": candidate.metric}
    return {key: None if key in candidate.unsaid else value for key, value in values.items()}


def _ranking(route: Json) -> str:
    return "/".join("-" if route[key] is None else str(route[key]) for key in ("preference", "metric"))


def _at(place: Json | None) -> str:
    return f" [{place['file']}:{place['line']}]" if place else ""


def why_lines(answer: Json) -> Iterator[str]:
    """An answer as lines for a terminal or a ticket."""
    name = answer["device"] if answer["vrf"] == "default" else f"{answer['device']} (VRF {answer['vrf']})"
    if answer["note"]:
        yield answer["note"]
    if answer["prefix"] is None:
        return
    winner = answer["winner"]
    if winner is None:
        covered = f"; {answer['covered_by']} is used instead" if answer["covered_by"] else ""
        yield f"{name} has no route for {answer['prefix']}{covered}"
    else:
        yield f"{name} {answer['prefix']}: {outcome_text({**winner})} {_ranking(winner)}"
    if answer["candidates"]:
        yield "candidates:"
    for number, one in enumerate(answer["candidates"]):
        mark = {"winner": "*", "lost": "-", "out": "x"}[one["state"]]
        kind = f" {one['kind']}" if one["kind"] else ""
        ranking = _ranking(one)
        words = f"the same by {hops_text(one['next_hops'])}" if one["detour"] else one["origin"]
        yield f"  {mark} {number + 1}. {one['protocol']}{kind} {ranking}: {words}{_at(one['place'])}"
        if one["protocol"] == "bgp":
            shown = [f"{each['name']} {each['value']}" for each in one["attributes"] if each["name"] != "policy"]
            yield f"       {', '.join(shown)}"
            yield from (f"       {each['value']}" for each in one["attributes"] if each["name"] == "policy")
        for way in one["ways"]:
            terms = [
                f"{leg['cost']} ({leg['device']}:{leg['interface']})"
                if leg["device"]
                else f"{leg['cost']} ({leg['what']})"
                for leg in way["legs"]
            ]
            yield f"       {' + '.join(terms)} = {way['total']}"
        if one["out"]:
            yield f"       out: {one['out']}"
        elif one["lost_in"] is not None:
            lost = answer["rounds"][one["lost_in"]]
            margin = f" {one['margin']}" if one["margin"] else ""
            yield f"       lost in round {one['lost_in'] + 1}, {lost['name']}{margin}"
    for number, one in enumerate(answer["rounds"]):
        scope = f" within {one['scope']}" if one["scope"] else ""
        values = ", ".join(f"{value['candidate'] + 1}: {value['value']}" for value in one["values"])
        accident = "" if one["chosen"] else "; a tie that nobody chose"
        yield f"round {number + 1}{scope}, {one['name']}: {one['rule']}{accident}"
        yield f"  {values}"
    if answer["unsent"]:
        yield "not sent by neighbors:"
    for one in answer["unsent"]:
        path = one["as_path"] or "empty"
        yield f"  {one['neighbor']} ({one['device']}), AS path {path}: {one['reason']}{_at(one['place'])}"
    for note in answer["notes"]:
        yield f"note: {note}"
    if answer["tipping"]:
        yield "tipping points:"
    for point in answer["tipping"]:
        beyond = f"; further on {outcome_text(point['beyond'])}" if point["beyond"] else ""
        yield f"  {point['message']}{_at(point['place'])}"
        yield f"       then {outcome_text(point['becomes'])}{beyond}"
    for trail in answer["trails"]:
        yield "on its way here:"
        for step in trail:
            others = "".join(map(_at, step["other_places"]))
            yield f"  {'x' if step['stopped'] else '>'} {step['message']}{_at(step['place'])}{others}"
