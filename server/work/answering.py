"""What a work process answers: questions by name, each of a solved revision and plain parameters."""

import hashlib
import json
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, cast

import msgspec

from routrel.analysis.answers import (
    comparisons,
    contests,
    destinations,
    expectations,
    health,
    held,
    maintenance,
    model,
    policies,
    remedies,
    routes,
    statements,
    timeline,
    trials,
    walks,
    wanted_ways,
)
from routrel.analysis.comparison import compare, moved
from routrel.analysis.drift import drift
from routrel.analysis.expectations.failures import KIND_WORDS, NothingToFailError
from routrel.analysis.expectations.holding import Holding, holding
from routrel.analysis.expectations.leaning import leaning_of
from routrel.analysis.expectations.turned import turned
from routrel.analysis.held.groups import comparing
from routrel.analysis.maintenance.plan import MaintenanceError, planning, things_to_shut
from routrel.analysis.overview import map_of, services
from routrel.analysis.policy_view import PolicyView, all_policies
from routrel.analysis.problem_offers import finding_answers
from routrel.analysis.ranked_remedies import ranked_remedies
from routrel.analysis.routes_to import routes_to
from routrel.analysis.search import find
from routrel.analysis.statements import Span, outline, statements_at
from routrel.analysis.table_rows import rows_of
from routrel.analysis.trial import Trial, device_text
from routrel.analysis.understanding import understanding
from routrel.analysis.wanted_ways.proposals import wanted_way
from routrel.formats.mrt.records import is_dump
from routrel.formats.mrt.showing import lines_around
from routrel.formats.written_models import written_in_models
from routrel.forwarding.flow import Flow
from routrel.model.addresses import Address
from routrel.model.expectations import FailureKind
from routrel.model.routing import DEFAULT_INSTANCE
from work import answering_past
from work.failures_asked import SURVIVED, FailuresAsked, FailuresAskedError
from work.solved_revision import (
    HELD_SECONDS,
    Parameters,
    RefusedError,
    SolvedRevision,
    not_found,
    prefix_asked,
)

MOST_ROUTES = 1000
"""Routes that a comparison lists; all are counted."""


class Loaded(msgspec.Struct, frozen=True):
    """What an upload has become."""

    name: str
    taken_at: datetime | None
    device_count: int
    link_count: int
    is_capture: bool
    expectation_count: int


class SourceFile(msgspec.Struct, frozen=True):
    """A source file: its size in bytes, and a digest of its text, which is the same where that is."""

    file: str
    size: int
    digest: str


class SourceText(msgspec.Struct, frozen=True):
    """A source file's text. Of a dump a part of its records as lines, the first numbered ``first``, of ``lines``."""

    file: str
    text: str
    first: int = 1
    lines: int | None = None


def _loaded(revision: SolvedRevision, parameters: Parameters) -> Loaded:
    """Once all that its first view asks was answered."""
    map_of(revision.solved)
    revision.findings()
    network = revision.solved.network
    return Loaded(
        network.name,
        network.taken_at,
        len(network.devices),
        len(network.links),
        any(device.known_by == "capture" for device in network.devices.values()),
        len(network.expectations),
    )


def _walk(revision: SolvedRevision, parameters: Parameters) -> walks.Walk:
    return revision.evidence.walk(revision.answerer.asker.ask(Flow(**parameters)))


def _remedies(revision: SolvedRevision, parameters: Parameters) -> list[remedies.RankedRemedy]:
    flow, trial = Flow(**parameters), revision.trial
    if trial is None:
        return ranked_remedies(revision.files, revision.solved, flow)
    return ranked_remedies(trial.files, trial.before, flow, trial)


def _wanted_way(revision: SolvedRevision, parameters: Parameters) -> wanted_ways.WantedWay:
    flow = Flow(**parameters["flow"])
    words = parameters["passes"], parameters["avoids"]
    if revision.trial is None:
        return wanted_way(revision.files, revision.solved, flow, *words)
    return wanted_way(revision.trial.files, revision.trial.before, flow, *words, revision.trial)


def _walks(revision: SolvedRevision, parameters: Parameters) -> list[walks.FlowAnswer]:
    return [revision.answerer.answer(Flow(**flow)) for flow in parameters["flows"]]


def _instances(revision: SolvedRevision, parameters: Parameters) -> list[model.Instance]:
    topology = revision.solved.topology
    return [
        model.Instance(topology.devices[instance.device].name, instance.vrf)
        for instance in topology.instances
        if instance.vrf != DEFAULT_INSTANCE
    ]


def _policy(revision: SolvedRevision, parameters: Parameters) -> policies.PolicyReport:
    revision.instance({"device": parameters.get("device")})
    device, name = parameters["device"], parameters.get("policy") or ""
    if name not in revision.solved.network.devices[device].policies:
        raise not_found(f"{device} has no policy {name!r}.")
    return PolicyView(revision.solved, device, name).report()


def _comparison(revision: SolvedRevision, parameters: Parameters) -> comparisons.Comparison:
    flows = [Flow(**flow) for flow in parameters["flows"]]
    return compare(parameters["since"].solved, revision.solved, flows, MOST_ROUTES)


def _moved(revision: SolvedRevision, parameters: Parameters) -> comparisons.Moved:
    flows = [Flow(**flow) for flow in parameters["flows"]]
    return moved(_trial(revision).before, revision.solved, flows, MOST_ROUTES)


def _held(revision: SolvedRevision, parameters: Parameters) -> held.HeldSoFar:
    trial = _trial(revision)
    return cast(held.HeldSoFar, revision.so_far("held", lambda: comparing(trial.before, trial.after)))


def _failures_asked(text: str) -> FailuresAsked:
    try:
        return FailuresAsked.of_text(text)
    except FailuresAskedError as error:
        raise RefusedError(400, {"failures": [str(error)]}) from None


def _expectations(revision: SolvedRevision, parameters: Parameters) -> expectations.ExpectationsSoFar:
    asked = _failures_asked(parameters.get("failures") or SURVIVED)
    found = revision.so_far(
        f"expectations {asked.text}",
        lambda: holding(revision.solved, revision.solved.network.expectations, asked.kinds, asked.with_survival),
    )
    return cast(expectations.ExpectationsSoFar, found)


def _turned(revision: SolvedRevision, parameters: Parameters) -> expectations.Turned:
    return turned(parameters["since"].solved, revision.solved, parameters["expectation"])


def _leaning(revision: SolvedRevision, parameters: Parameters) -> expectations.LeaningSoFar:
    name: str = parameters["expectation"]
    found = revision.so_far(f"leaning {name}", lambda: leaning_of(revision.solved, name))
    return cast(expectations.LeaningSoFar, found)


def _maintenance(revision: SolvedRevision, parameters: Parameters) -> maintenance.MaintenanceSoFar:
    try:
        shut = things_to_shut(parameters["shut"].split(","))
        found = revision.so_far(f"maintenance {shut}", lambda: planning(revision.files, revision.solved, shut))
    except (MaintenanceError, NothingToFailError) as error:
        raise RefusedError(400, {"shut": [_sentence(error)]}) from None
    return cast(maintenance.MaintenanceSoFar, found)


def _sentence(error: Exception) -> str:
    """What the core says of an error, as a sentence; a question has its own end."""
    text = str(error)
    return f"{text[:1].upper()}{text[1:]}{'' if text.endswith('?') else '.'}"


def _planned(revision: SolvedRevision, parameters: Parameters) -> expectations.FailuresPlanned:
    found = revision.held_under(_failures_asked(parameters["failures"]))
    as_it_is = found.as_it_is() if isinstance(found, Holding) else None
    return expectations.FailuresPlanned(as_it_is, len(found.failures))


def _part(revision: SolvedRevision, parameters: Parameters) -> list[expectations.FailuresPart]:
    """One by one, what as many failures do as there is time for."""
    found = revision.held_under(_failures_asked(parameters["failures"]))
    parts = list[expectations.FailuresPart]()
    end = time.monotonic() + HELD_SECONDS
    for number in range(parameters["start"], parameters["stop"]):
        parts.append(found.part(range(number, number + 1)))
        if time.monotonic() > end:
            break
    return parts


def _endangered(revision: SolvedRevision, parameters: Parameters) -> expectations.Endangered:
    kinds: dict[str, FailureKind] = {word.replace(" ", "_"): kind for kind, word in KIND_WORDS.items()}
    named = [(kinds[key], at) for key in kinds if (at := parameters.get(key))]
    if len(named) != 1:
        raise RefusedError(400, {"detail": f"This is asked of one thing: name it by one of {', '.join(kinds)}."})
    try:
        return revision.endangering.by(*named[0])
    except NothingToFailError as error:
        raise not_found(_sentence(error)) from None


def _trial(revision: SolvedRevision) -> Trial:
    if revision.trial is None:
        raise RefusedError(400, {"detail": "This is asked of a trial: name one."})
    return revision.trial


def _device_text(revision: SolvedRevision, parameters: Parameters) -> trials.DeviceText:
    revision.instance({"device": parameters.get("device")})
    name, trial = parameters["device"], revision.trial
    if trial is None:
        return device_text(revision.files, revision.solved.network, name)
    changes = [outcome.change for outcome in trial.applied.outcomes]
    return device_text(trial.files, trial.before.network, name, changes)


def _models(revision: SolvedRevision, parameters: Parameters) -> list[SourceText]:
    """The network, or a trial of it, written in open models."""
    if revision.trial is not None:
        written = revision.trial.in_models()
    else:
        written = written_in_models(revision.files, revision.solved.network)
    return [SourceText(name, text) for name, text in sorted(written.items())]


def _changed_files(revision: SolvedRevision, parameters: Parameters) -> list[SourceText]:
    """All files that differ, whole; refused where a change is in error."""
    trial = _trial(revision)
    if trial.has_errors:
        raise RefusedError(
            409, {"detail": "Some changes of this trial cannot be made here: mend them or switch them off."}
        )
    return [SourceText(name, text) for name, text in sorted(trial.applied.changed_files.items())]


def _table(revision: SolvedRevision, parameters: Parameters) -> list[routes.TableRow]:
    within = prefix_asked(parameters, "within") if parameters.get("within") else None
    part = within.host_prefix() if isinstance(within, Address) else within
    return rows_of(revision.solved, revision.instance(parameters), part, parameters.get("most"))


def _file(revision: SolvedRevision, parameters: Parameters) -> str:
    """The file that a question names."""
    name: str = parameters.get("file") or ""
    if name not in revision.files:
        raise not_found(f"There is no file {name!r} in this revision.")
    return name


def _statements(revision: SolvedRevision, parameters: Parameters) -> list[statements.Statement]:
    span = Span(parameters["line"], parameters["column"], parameters["end"])
    return statements_at(revision.solved, revision.findings(), _file(revision, parameters), span)


def _source(revision: SolvedRevision, parameters: Parameters) -> SourceText:
    name = _file(revision, parameters)
    if is_dump(name):
        first, lines, count = lines_around(revision.files[name], name, parameters.get("line", 1))
        return SourceText(name, "\n".join(lines), first, count)
    return SourceText(name, revision.files[name].decode("utf-8-sig", "replace"))


@dataclass(frozen=True)
class Question:
    """How a question is answered, and the type of its answer, from which the API's schema is made."""

    of: Any
    answer: Callable[[SolvedRevision, Parameters], Any]


QUESTIONS = {
    "loaded": Question(Loaded, _loaded),
    "map": Question(model.Map, lambda revision, _: map_of(revision.solved)),
    "understanding": Question(model.Understanding, lambda revision, _: understanding(revision.solved)),
    "walk": Question(walks.Walk, _walk),
    "remedies": Question(list[remedies.RankedRemedy], _remedies),
    "wanted-way": Question(wanted_ways.WantedWay, _wanted_way),
    "walks": Question(list[walks.FlowAnswer], _walks),
    "findings": Question(
        list[model.Finding], lambda revision, _: finding_answers(revision.solved, revision.findings())
    ),
    "words": Question(list[model.Word], lambda revision, of: revision.words().matching((of.get("q") or "")[:200])),
    "find": Question(list[model.Found], lambda revision, of: find(revision.solved, (of.get("q") or "")[:200], 40)),
    "services": Question(list[model.Word], lambda revision, _: services(revision.solved)),
    "table": Question(list[routes.TableRow], _table),
    "instances": Question(list[model.Instance], _instances),
    "contest": Question(
        contests.Contest, lambda revision, of: revision.why().why(revision.instance(of), prefix_asked(of), False)
    ),
    "tipping": Question(
        list[contests.TippingPoint],
        lambda revision, of: revision.why().tipping(revision.instance(of), prefix_asked(of)),
    ),
    "forest": Question(destinations.Forest, lambda revision, of: routes_to(revision.solved, prefix_asked(of))),
    "policies": Question(list[policies.Policy], lambda revision, _: all_policies(revision.solved)),
    "policy": Question(policies.PolicyReport, _policy),
    "drift": Question(model.Drift, lambda revision, of: drift(revision.solved, revision.instance(of))),
    "comparison": Question(comparisons.Comparison, _comparison),
    "tried": Question(trials.Tried, lambda revision, _: _trial(revision).tried()),
    "moved": Question(comparisons.Moved, _moved),
    "held": Question(held.HeldSoFar, _held),
    "expectations": Question(expectations.ExpectationsSoFar, _expectations),
    "maintenance": Question(maintenance.MaintenanceSoFar, _maintenance),
    "strip": Question(timeline.StripsSoFar, answering_past.strip),
    "happened": Question(timeline.Happened, answering_past.what_happened),
    "between": Question(timeline.Between, answering_past.between),
    "route-over-time": Question(timeline.RouteOverTimeSoFar, answering_past.route),
    "between-held": Question(held.HeldSoFar, answering_past.between_held),
    "measured": Question(health.GaugeOverTime, answering_past.measured),
    "state": Question(timeline.StateThen, answering_past.state),
    "turned": Question(expectations.Turned, _turned),
    "leaning": Question(expectations.LeaningSoFar, _leaning),
    "endangered": Question(expectations.Endangered, _endangered),
    "models": Question(list[SourceText], _models),
    "patches": Question(list[trials.DevicePatch], lambda revision, _: _trial(revision).patches()),
    "difference": Question(trials.FileDifference, lambda revision, _: _trial(revision).file_difference()),
    "changed-files": Question(list[SourceText], _changed_files),
    "device-text": Question(trials.DeviceText, _device_text),
    "outline": Question(list[statements.Heading], lambda revision, of: outline(revision.solved, _file(revision, of))),
    "statements": Question(list[statements.Statement], _statements),
    "sources": Question(
        list[SourceFile],
        lambda revision, _: [
            SourceFile(name, len(data), hashlib.sha256(data).hexdigest())
            for name, data in sorted(revision.files.items())
        ],
    ),
    "source": Question(SourceText, _source),
}


ANSWERS_KEPT = frozenset(
    ("walk", "remedies", "findings", "map", "contest", "tipping", "forest", "policy", "endangered")
)
"""Questions whose answers are kept for who asks the same: a revision never changes."""

ASKED_INSIDE = {
    "failures-planned": Question(expectations.FailuresPlanned, _planned),
    "failures-part": Question(list[expectations.FailuresPart], _part),
    "events-loaded": Question(answering_past.EventsLoaded, answering_past.events_loaded),
}
"""What no address of the API asks."""


def answer(
    revision: SolvedRevision, question: str, parameters: Parameters, beside: Mapping[str, Any] | None = None
) -> bytes:
    """The answer as JSON text; ``beside`` may have an earlier revision that the first is held against, ``since``, and
    a ``timeline`` of it."""
    if question not in ANSWERS_KEPT:
        return _encoded(revision, question, {**parameters, **(beside or {})})
    return revision.kept_answers.get(
        f"{question} {json.dumps(parameters, sort_keys=True)}", lambda: _encoded(revision, question, parameters)
    )


def _encoded(revision: SolvedRevision, question: str, parameters: Parameters) -> bytes:
    return msgspec.json.encode((QUESTIONS.get(question) or ASKED_INSIDE[question]).answer(revision, parameters))
