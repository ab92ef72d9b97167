"""What keeps a prefix from routers, in networks with one way between any two: whatever is broken is named by its line."""

import json
from collections.abc import Iterator
from copy import deepcopy
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.contest.why import WhyAnswerer
from routrel.analysis.evidence import Evidence
from routrel.analysis.trial import Trial
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.changes.reading import changes_of
from routrel.formats.network_file import read_network
from routrel.forwarding.flow import Flow
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.networks import plain
from tests.examples import examples

PROTOCOLS = ("ospf", "isis", "rip", "eigrp", "bgp")
Path = tuple[str | int, ...]


@st.composite
def trees(draw) -> dict[str, Any]:
    """Up to six routers, a cable to one before; each cable speaks one protocol, and routers put each into the others."""
    count = draw(st.integers(2, 6))
    devices: dict[str, Any] = {}
    links = []
    for number in range(count):
        devices[f"r{number}"] = {
            "interfaces": {"lo": {"addresses": [f"10.0.0.{number + 1}/32"]}},
            "routing": {"router_id": f"10.0.0.{number + 1}", "static": []},
        }
        if draw(st.booleans()):
            devices[f"r{number}"]["routing"]["static"] = [{"prefix": f"10.7{number}.0.0/16", "action": "discard"}]
    for number in range(1, count):
        other, protocol = draw(st.integers(0, number - 1)), draw(st.sampled_from(PROTOCOLS))
        for host, router in enumerate((other, number), 1):
            device = devices[f"r{router}"]
            device["interfaces"][f"c{number}"] = {"addresses": [f"172.16.{number}.{host}/30"]}
            if protocol == "bgp":
                peer = {"as": 64500 + (number if host == 1 else other)}
                process_of(device, protocol, router)[f"172.16.{number}.{3 - host}"] = peer
            else:
                process_of(device, protocol, router)[f"c{number}"] = {}
        links.append({"ends": [f"r{other}:c{number}", f"r{number}:c{number}"]})
    for device in devices.values():
        spoken = [protocol for protocol in PROTOCOLS if protocol in device["routing"]]
        for protocol in spoken:
            sources = ["connected", "static", *(other for other in spoken if other != protocol)]
            device["routing"][protocol]["redistribute"] = [{"from": source, "metric": 1} for source in sources]
    return {"routrel": 1, "name": "tree", "devices": devices, "links": links}


def process_of(device: dict[str, Any], protocol: str, router: int) -> dict[str, Any]:
    """The interfaces or neighbours of a device's process, made where it has none."""
    made = {
        "ospf": {"areas": {"0": {"interfaces": {}}}},
        "isis": {"net": f"49.0001.0000.0000.{router + 1:04}.00", "interfaces": {}},
        "rip": {"interfaces": {}},
        "eigrp": {"as": 7, "interfaces": {}},
        "bgp": {"as": 64500 + router, "neighbors": {}},
    }[protocol]
    routing = device["routing"].setdefault(protocol, made)
    if protocol == "ospf":
        return routing["areas"]["0"]["interfaces"]
    return routing["neighbors" if protocol == "bgp" else "interfaces"]


def breaks(document: dict[str, Any]) -> Iterator[tuple[dict[str, Any], list[Path]]]:
    """The document with one thing broken, and the paths of what a reader would have to change."""

    def at(path: Path, value: Any, *more: tuple[Path, Any]) -> tuple[dict[str, Any], list[Path]]:
        broken = deepcopy(document)
        for one, new in ((path, value), *more):
            place = broken
            for key in one[:-1]:
                place = place.setdefault(key, {}) if isinstance(place, dict) else place[key]
            place[one[-1]] = new
        return broken, [path[:-1], *(one for one, _ in more)]

    for number in range(len(document["links"])):
        yield at(("links", number, "enabled"), False)
    for name, device in document["devices"].items():
        own: Path = ("devices", name)
        nothing: tuple[Path, Any] = ((*own, "policies"), {"nothing": [{"result": "reject"}]})
        for interface in device["interfaces"]:
            if interface != "lo":
                yield at((*own, "interfaces", interface, "enabled"), False)
                dropping: tuple[Path, Any] = ((*own, "acls"), {"none": [{"action": "drop"}]})
                yield at((*own, "interfaces", interface, "acl_in"), "none", dropping)
        for protocol in PROTOCOLS:
            routing = device["routing"].get(protocol)
            if routing is None:
                continue
            area, ends = (
                ("areas", "0") if protocol == "ospf" else (),
                "neighbors" if protocol == "bgp" else "interfaces",
            )
            for end in process_of(device, protocol, 0):
                where: Path = (*own, "routing", protocol, *area, ends, end)
                if protocol != "bgp":
                    yield at((*where, "passive"), True)
                    continue
                yield at((*where, "enabled"), False)
                yield at((*where, "as"), 64999)
                yield at((*where, "import"), "nothing", nothing)
                yield at((*where, "export"), "nothing", nothing)
            for number in range(len(routing["redistribute"])):
                yield at((*own, "routing", protocol, "redistribute", number, "policy"), "nothing", nothing)


def written(document: Any, path: Path, ranges: dict[Path, tuple[int, int]], line: int = 1) -> list[str]:
    """A document as lines; notes the first and last of everything in it."""
    if not isinstance(document, dict | list) or not document:
        lines = [json.dumps(document)]
    else:
        is_list = isinstance(document, list)
        items = list(enumerate(document)) if is_list else list(document.items())
        lines = ["[" if is_list else "{"]
        for key, value in items:
            part = written(value, (*path, key), ranges, line + len(lines))
            part[0] = part[0] if is_list else f"{json.dumps(key)}: {part[0]}"
            part[-1] += "," if key != items[-1][0] else ""
            lines += part
        lines.append("]" if is_list else "}")
    ranges[path] = line, line + len(lines) - 1
    return lines


def solved_with_lines(document: dict[str, Any]) -> tuple[Solved, dict[Path, tuple[int, int]]]:
    ranges: dict[Path, tuple[int, int]] = {}
    text = "\n".join(written(document, (), ranges))
    return solve(read_network({"n.json": text.encode()})), ranges


def lines_named(answer: dict[str, Any]) -> set[int]:
    steps = [trail[-1] for trail in answer["trails"]]
    places = [place for step in steps for place in (step["place"], *step["other_places"]) if place]
    return {place["line"] for place in places}


@given(trees(), st.data())
@settings(max_examples=examples(30), deadline=None, suppress_health_check=list(HealthCheck))
def test_what_is_offered_against_it_cures_it_as_text(document, data):
    broken, _ = data.draw(st.sampled_from(list(breaks(document))))
    files = {"n.json": json.dumps(broken, indent=1).encode()}
    solved = solve(read_network(files))
    source, target = data.draw(st.permutations(sorted(document["devices"])))[:2]
    flow = Flow(source, document["devices"][target]["interfaces"]["lo"]["addresses"][0].removesuffix("/32"))
    found = plain(Evidence(Answerer(solved)).walk(Answerer(solved).asker.ask(flow)))
    for strand in ("forward", "return"):
        remedies = [cause["remedy"] for cause in (found[strand] or {"causes": []})["causes"]]
        for remedy in (one for one in remedies if one):
            trial = Trial.of(files, solved, changes_of(remedy["changes"]))
            again = plain(Evidence(Answerer(trial.after)).walk(Answerer(trial.after).asker.ask(flow)))
            assert again[strand] is None or again[strand]["verdict"] == "arrives", remedy


@given(trees(), st.data())
@settings(max_examples=examples(60), deadline=None, suppress_health_check=list(HealthCheck))
def test_whatever_is_broken_is_named_by_its_line(document, data):
    before, _ = solved_with_lines(document)
    broken, paths = data.draw(st.sampled_from(list(breaks(document))))
    after, ranges = solved_with_lines(broken)
    answerer = WhyAnswerer(after)
    for instance in range(len(after.topology.instances)):
        for number, prefix in enumerate(before.prefixes.prefixes):
            was = before.table(instance).get(number)
            if was is None or was.protocol in ("connected", "local", "static"):
                continue
            if after.table(instance).get(after.prefixes.number[prefix]) is not None:
                continue
            answer = plain(answerer.why(instance, prefix, with_tipping=False))
            wanted = [ranges[path] for path in paths]
            named = lines_named(answer)
            assert any(first <= line <= last for first, last in wanted for line in named), (prefix, answer["trails"])
