"""What a work process answers: questions by name, each of a solved revision and plain parameters."""

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from routrel.analysis.answers import Answerer, finding_json, place_json, routes_json
from routrel.analysis.check import check
from routrel.analysis.contest.answer import WhyAnswerer, WhyError, parse_prefix
from routrel.analysis.drift import drift, has_both
from routrel.analysis.evidence import Evidence
from routrel.analysis.forest import forest_json
from routrel.analysis.overview import Words, map_json, services
from routrel.analysis.policy_view import PolicyView, policies_json
from routrel.formats.captures import is_capture
from routrel.formats.sources import files_of_upload, read_files
from routrel.forwarding.flow import Flow
from routrel.model.addresses import Address, Prefix
from routrel.model.findings import Finding
from routrel.model.routing import DEFAULT_INSTANCE
from routrel.routing.solve import Solved, solve

Json = Any
Parameters = Mapping[str, Any]


class RefusedError(Exception):
    """A question that cannot be answered as asked: an HTTP status and what to say."""

    def __init__(self, status: int, body: Json):
        super().__init__(str(body))
        self.status = status
        self.body = body


def _not_found(text: str) -> RefusedError:
    return RefusedError(404, {"detail": text})


@dataclass
class SolvedRevision:
    """A revision with all that is computed from it."""

    files: dict[str, bytes]
    solved: Solved
    answerer: Answerer
    evidence: Evidence
    is_capture: bool
    _findings: list[Finding] | None = None
    _words: Words | None = None
    _why: WhyAnswerer | None = None

    @classmethod
    def of(cls, file_name: str, data: bytes) -> "SolvedRevision":
        """An upload read and solved; raises ``LoadError`` with all errors in it."""
        files = files_of_upload(file_name, data)
        solved = solve(read_files(files))
        answerer = Answerer(solved)
        return cls(files, solved, answerer, Evidence(answerer), is_capture(files))

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

    def instance(self, parameters: Parameters) -> int:
        """The routing instance that a question names."""
        name, vrf = parameters.get("device") or "", parameters.get("vrf") or DEFAULT_INSTANCE
        topology = self.solved.topology
        if name not in topology.device_index:
            raise _not_found(f"There is no device {name!r} in this network.")
        number = topology.instance_index.get((name, vrf))
        if number is None:
            raise _not_found(f"There is no routing instance {vrf!r} on {name}.")
        return number


def _prefix(parameters: Parameters) -> Prefix | Address:
    try:
        return parse_prefix((parameters.get("prefix") or "").strip())
    except WhyError as error:
        raise RefusedError(400, {"prefix": [str(error)]}) from None


def _loaded(revision: SolvedRevision, parameters: Parameters) -> Json:
    """What an upload has become, once all that its first view asks was answered."""
    map_json(revision.solved)
    revision.findings()
    network = revision.solved.network
    return {
        "name": network.name,
        "taken_at": network.taken_at,
        "device_count": len(network.devices),
        "link_count": len(network.links),
        "is_capture": revision.is_capture,
    }


def _walk(revision: SolvedRevision, parameters: Parameters) -> Json:
    return revision.evidence.walk(revision.answerer.asker.ask(Flow(**parameters)))


def _instances(revision: SolvedRevision, parameters: Parameters) -> Json:
    topology = revision.solved.topology
    return [
        {"device": topology.devices[instance.device].name, "vrf": instance.vrf}
        for instance in topology.instances
        if instance.vrf != DEFAULT_INSTANCE
    ]


def _policy(revision: SolvedRevision, parameters: Parameters) -> Json:
    revision.instance({"device": parameters.get("device")})
    device, name = parameters["device"], parameters.get("policy") or ""
    if name not in revision.solved.network.devices[device].policies:
        raise _not_found(f"{device} has no policy {name!r}.")
    return PolicyView(revision.solved, device, name).report()


def _drift(revision: SolvedRevision, parameters: Parameters) -> Json:
    instance = revision.instance(parameters)
    return {
        "compared": has_both(revision.solved, instance),
        "differences": [
            {
                "prefix": str(one.prefix),
                "what": one.what,
                "computed": one.computed,
                "observed": one.observed,
                "place": place_json(one.place),
            }
            for one in drift(revision.solved, instance)
        ],
    }


def _source(revision: SolvedRevision, parameters: Parameters) -> Json:
    name = parameters.get("file") or ""
    if name not in revision.files:
        raise _not_found(f"There is no file {name!r} in this revision.")
    return {"file": name, "text": revision.files[name].decode("utf-8-sig", "replace")}


QUESTIONS: dict[str, Callable[[SolvedRevision, Parameters], Json]] = {
    "loaded": _loaded,
    "map": lambda revision, _: map_json(revision.solved),
    "walk": _walk,
    "findings": lambda revision, _: [finding_json(finding) for finding in revision.findings()],
    "words": lambda revision, parameters: revision.words().matching((parameters.get("q") or "")[:200]),
    "services": lambda revision, _: services(revision.solved),
    "table": lambda revision, parameters: list(routes_json(revision.solved, [revision.instance(parameters)])),
    "instances": _instances,
    "contest": lambda revision, parameters: revision.why().why_json(
        revision.instance(parameters), _prefix(parameters), with_tipping=False
    ),
    "tipping": lambda revision, parameters: revision.why().tipping_json(
        revision.instance(parameters), _prefix(parameters)
    ),
    "forest": lambda revision, parameters: forest_json(revision.solved, _prefix(parameters)),
    "policies": lambda revision, _: policies_json(revision.solved),
    "policy": _policy,
    "drift": _drift,
    "sources": lambda revision, _: [{"file": name, "size": len(data)} for name, data in sorted(revision.files.items())],
    "source": _source,
}


def answer(revision: SolvedRevision, question: str, parameters: Parameters) -> bytes:
    """The answer as JSON text."""
    return json.dumps(QUESTIONS[question](revision, parameters), ensure_ascii=False, separators=(",", ":")).encode()
