"""A revision as a work process keeps it: solved, with what is computed of it and its trials."""

import json
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property, partial
from typing import Any, Literal

from routrel.analysis.check import check
from routrel.analysis.contest.why import WhyAnswerer, WhyError, parse_prefix
from routrel.analysis.evidence import Evidence
from routrel.analysis.expectations.endangered import Endangering
from routrel.analysis.expectations.failures import TooManyFailuresError
from routrel.analysis.expectations.holding import Holding
from routrel.analysis.held.under_failures import PlacesStressed
from routrel.analysis.overview import Words
from routrel.analysis.timeline.states import State, Timeline
from routrel.analysis.trial import Trial
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.changes.applying import apply_changes
from routrel.formats.changes.reading import changes_of
from routrel.formats.happenings import Happenings
from routrel.formats.sources import files_of_upload, read_files
from routrel.model.addresses import Address, Prefix
from routrel.model.findings import Finding
from routrel.model.network import Network
from routrel.model.routing import DEFAULT_INSTANCE
from routrel.routing.solve import Solved
from routrel.solving import solve
from work.failures_asked import FailuresAsked
from work.kept_answers import KeptAnswers
from work.past import Past

TIMELINES_KEPT = 2
"""Timelines of a revision that are kept, each with other events."""

MOMENTS_KEPT = 4
"""States at moments that are kept solved."""

TRIALS_KEPT = 3
"""Trials of a revision that are kept solved."""

HELD_SECONDS = 1.0
"""How long what takes several calls goes on before it is said how far it is."""

GOING_KEPT = 6
"""Answers of a revision that take several calls and are kept."""

Json = Any
Parameters = Mapping[str, Any]


class RefusedError(Exception):
    """A question that cannot be answered as asked: an HTTP status and what to say."""

    def __init__(self, status: int, body: Json):
        super().__init__(str(body))
        self.status = status
        self.body = body


def not_found(text: str) -> RefusedError:
    return RefusedError(404, {"detail": text})


def prefix_asked(parameters: Parameters, name: str = "prefix") -> Prefix | Address:
    """The prefix or address that a question names."""
    try:
        return parse_prefix((parameters.get(name) or "").strip())
    except WhyError as error:
        raise RefusedError(400, {name: [str(error)]}) from None


def changes_key(changes: list[dict[str, Any]]) -> str:
    """Changes as a JSON list that is the same where they are."""
    return json.dumps(changes, sort_keys=True)


@dataclass
class SolvedRevision:
    """A revision with all that is computed from it."""

    files: dict[str, bytes]
    as_it_is: Solved
    trial: Trial | None = None
    seconds: float = 0.0
    """Of processor time that reading and solving took."""
    own_files: dict[str, bytes] | None = None
    """Of a state at a moment: the network's own files as they would be then."""
    hear: Callable[[Network], Network] | None = None
    """Of a state at a moment: what neighbours outside said then, which no file has."""
    _timelines: OrderedDict[Past, Timeline] = field(default_factory=OrderedDict)
    _moments: OrderedDict[tuple[Past, State], "SolvedRevision"] = field(default_factory=OrderedDict)
    _trials: OrderedDict[str, "SolvedRevision"] = field(default_factory=OrderedDict)
    _findings: list[Finding] | None = None
    _words: Words | None = None
    _why: WhyAnswerer | None = None
    _going: dict[str, tuple[Iterator[Any], Any]] = field(default_factory=dict)
    _held_under: dict[FailuresAsked, Holding | PlacesStressed] = field(default_factory=dict)
    kept_answers: KeptAnswers = field(default_factory=KeptAnswers)

    @classmethod
    def of(
        cls,
        file_name: str,
        data: bytes,
        known: Solved | None = None,
        say: Callable[[Literal["reading", "solving"]], None] = lambda stage: None,
    ) -> "SolvedRevision":
        """An upload read and solved, unless that is ``known``, saying what it is at; raises ``LoadError`` with all
        errors in it."""
        say("reading")
        files = files_of_upload(file_name, data)
        if known is None:
            network = read_files(files)
            say("solving")
            known = solve(network)
        return cls(files, known)

    @cached_property
    def solved(self) -> Solved:
        """With the changes of the trial, if it is one: solved only by questions that need it."""
        return self.as_it_is if self.trial is None else self.trial.after

    @cached_property
    def endangering(self) -> Endangering:
        return Endangering(self.solved, self.solved.network.expectations)

    @cached_property
    def _in_own_files(self) -> "SolvedRevision":
        """The state with what is otherwise in the network's own texts, for a trial edits these."""
        assert self.own_files is not None
        network = read_files(self.own_files)
        return SolvedRevision(self.own_files, solve(network if self.hear is None else self.hear(network)))

    @cached_property
    def answerer(self) -> Answerer:
        return Answerer(self.solved)

    @cached_property
    def evidence(self) -> Evidence:
        return Evidence(self.answerer)

    def timeline(self, past: Past, files: list[Happenings]) -> Timeline:
        """The revision with what happened before and after it."""
        key = past._replace(moment="")
        if key not in self._timelines:
            since = datetime.fromisoformat(past.since)
            events = [event for one in files for event in one.events]
            said = [one.announcements for one in files]
            samples = [one.samples for one in files if len(one.samples)]
            self._timelines[key] = Timeline(self.files, self.as_it_is, since, events, past.reaches_back, said, samples)
            while len(self._timelines) > TIMELINES_KEPT:
                self._timelines.popitem(last=False)
        self._timelines.move_to_end(key)
        return self._timelines[key]

    def at(self, past: Past, timeline: Timeline) -> "SolvedRevision":
        """The revision as it was at the moment of a past; moments of one state are one."""
        state = timeline.state_at(datetime.fromisoformat(past.moment))
        if state.unknown:
            raise RefusedError(409, {"detail": f"The state at {past.moment} is not known: {state.unknown}."})
        if state == State():
            return self
        key = past._replace(moment=""), state
        if key not in self._moments:
            applied = apply_changes(self.files, self.as_it_is.network, timeline.changes_of(state))
            changed = {name: text.encode() for name, text in applied.changed_files.items()}
            then = solve(timeline.heard.network_with(applied.network, state.said), self.as_it_is)
            own = {**self.files, **changed}
            hear = partial(timeline.heard.network_with, said=state.said)
            self._moments[key] = SolvedRevision(applied.files, then, own_files=own, hear=hear)
            while len(self._moments) > MOMENTS_KEPT:
                self._moments.popitem(last=False)
        self._moments.move_to_end(key)
        return self._moments[key]

    def tried(self, changes: str) -> "SolvedRevision":
        """The revision with changes, which are a JSON list; those it was asked with last are kept."""
        if self.own_files is not None:
            return self._in_own_files.tried(changes)
        found = self._trials.get(changes)
        if found is None:
            trial = Trial.of(self.files, self.solved, changes_of(json.loads(changes)))
            # Changes that are kept have the entries written out that they mean: it is the same trial.
            changes = changes_key([outcome.change.data() for outcome in trial.applied.outcomes])
            found = self._trials.get(changes)
            if found is None:
                found = SolvedRevision(trial.applied.files, self.solved, trial)
                self._trials[changes] = found
            while len(self._trials) > TRIALS_KEPT:
                self._trials.popitem(last=False)
        self._trials.move_to_end(changes)
        return found

    def keep_one_trial(self) -> None:
        """Forget all trials but the one that was asked with last."""
        while len(self._trials) > 1:
            self._trials.popitem(last=False)

    def words(self) -> Words:
        if self._words is None:
            self._words = Words(self.solved)
        return self._words

    def why(self) -> WhyAnswerer:
        if self._why is None:
            self._why = WhyAnswerer(self.solved)
        return self._why

    def findings(self) -> list[Finding]:
        if self._findings is None:
            self._findings = check(self.solved)
        return self._findings

    def so_far(self, name: str, begin: Callable[[], Iterator[Any]]) -> Any:
        """The last step of what goes on a while each time it is asked, until its answer is ``held``."""
        steps, last = self._going.get(name) or (begin(), None)
        end = time.monotonic() + HELD_SECONDS
        while last is None or (last.held is None and time.monotonic() < end):
            last = next(steps)
        self._going[name] = steps, last
        while len(self._going) > GOING_KEPT:
            self._going.pop(next(one for one in self._going if one != name))
        return last

    def held_under(self, asked: FailuresAsked) -> Holding | PlacesStressed:
        """Expectations held as it is and, one after the other, under failures; or all traffic under them."""
        found = self._held_under.get(asked)
        if found is None:
            found = self._holding(asked)
            self._held_under = {asked: found}
        return found

    def _holding(self, asked: FailuresAsked) -> Holding | PlacesStressed:
        if asked.places:
            return PlacesStressed(self.solved, asked.kinds)
        try:
            return Holding(self.solved, self.solved.network.expectations, *asked[:3])
        except TooManyFailuresError as error:
            text = str(error)
            raise RefusedError(400, {"failures": [f"{text[:1].upper()}{text[1:]}."]}) from None

    def instance(self, parameters: Parameters) -> int:
        """The routing instance that a question names."""
        name, vrf = parameters.get("device") or "", parameters.get("vrf") or DEFAULT_INSTANCE
        topology = self.solved.topology
        if name not in topology.device_index:
            raise not_found(f"There is no device {name!r} in this network.")
        number = topology.instance_index.get((name, vrf))
        if number is None:
            raise not_found(f"There is no routing instance {vrf!r} on {name}.")
        return number
