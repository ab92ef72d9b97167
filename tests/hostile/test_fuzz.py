"""Readers fed with whole files in which something was changed: an answer or located errors, never a crash.

A few hundred seeds in each run; ``ROUTREL_FUZZ=20000`` runs as many.
"""

import copy
import json
import os
import random
from pathlib import Path

import yaml

from routrel.analysis.check import check
from routrel.analysis.contest.why import WhyAnswerer
from routrel.analysis.overview import map_of
from routrel.analysis.problem_offers import finding_answers
from routrel.analysis.table_rows import table_rows
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.errors import LoadError
from routrel.formats.sources import read_files
from routrel.forwarding.flow import Flow
from routrel.solving import solve
from tests.core.networks import plain

ROOT = Path(__file__).parents[2]
SEEDS = int(os.environ.get("ROUTREL_FUZZ", "300"))
FAULTS = sorted((ROOT / "tests" / "faults" / "networks").glob("*.yaml"))
CAPTURES = sorted((ROOT / "tests" / "oracle" / "cases").glob("*/captures"))
ODD = (
    *(None, True, False, 0, 1, -1, 255, 65536, 2**32, 2**63, 1.5, "", " ", "x", "10.0.0.0/8", "10.0.0.1", "::/0"),
    *("fe80::1%e", "0.0.0.0/0", "255.255.255.255/32", "default", "unicast", "[]", "{}", "\u00e9", "a" * 300),
    *([], {}, [[]], [{}], {"a": 1}, ["x"], [1], {"next_hop": "10.0.0.1"}),
)


def places(value, path=()):
    """The paths of everything inside a value."""
    yield path
    if isinstance(value, dict):
        for key in value:
            yield from places(value[key], (*path, key))
    elif isinstance(value, list):
        for index in range(len(value)):
            yield from places(value[index], (*path, index))


def at(value, path):
    for step in path:
        value = value[step]
    return value


def mutated(document, dice: random.Random):
    """One to three changes: a value put, copied from elsewhere, taken out, doubled or renamed."""
    document = copy.deepcopy(document)
    for _ in range(dice.randint(1, 3)):
        inside = [path for path in places(document) if path]
        if not inside:
            return document
        path = dice.choice(inside)
        parent, last = at(document, path[:-1]), path[-1]
        action = dice.randrange(5)
        if action == 0:
            parent[last] = copy.deepcopy(dice.choice(ODD))
        elif action == 1:
            parent[last] = copy.deepcopy(at(document, dice.choice(inside)))
        elif action == 2:
            del parent[last]
        elif action == 3 and isinstance(parent, list):
            parent.insert(dice.randint(0, len(parent)), copy.deepcopy(parent[last]))
        elif isinstance(parent, dict):
            parent[str(dice.choice([*parent, "x", "default", "lo", "0"]))] = parent.pop(last)
    return document


def ask_everything(files: dict[str, bytes], seed: int) -> None:
    """What the server asks of an upload before it is stored, and a few questions more."""
    try:
        network = read_files(files)
    except LoadError as error:
        refused = error
    else:
        refused = None
    if refused is not None:
        assert refused.errors and all(one.place.file for one in refused.errors), seed
        return
    solved = solve(network)
    plain(finding_answers(solved, check(solved)))
    plain(map_of(solved))
    instances = range(len(solved.topology.instances))
    rows = list(table_rows(solved, instances))
    names = list(network.devices)
    answerer, why = Answerer(solved), WhyAnswerer(solved)
    for name in names[:3]:
        for other in names[-2:]:
            plain(answerer.listed(Flow(name, other, "udp/50-60")))
    for number in list(instances)[:3]:
        for prefix in solved.prefixes.prefixes[:4]:
            plain(why.why(number, prefix))
    plain(rows)


def test_network_files_with_something_changed_are_read_or_refused():
    documents = [yaml.safe_load(path.read_text()) for path in FAULTS]
    for seed in range(SEEDS):
        dice = random.Random(seed)
        document = mutated(dice.choice(documents), dice)
        ask_everything({"network.json": json.dumps(document).encode()}, seed)


def test_captures_with_something_changed_are_read_or_refused():
    folders = [
        {path.relative_to(folder).as_posix(): json.loads(path.read_text()) for path in folder.rglob("*.json")}
        for folder in CAPTURES[:3]
    ]
    small = []
    for folder in folders:
        devices = sorted({name.split("/")[0] for name in folder if "/" in name})[:3]
        small.append({name: value for name, value in folder.items() if name.split("/")[0] in devices})
    for seed in range(SEEDS // 3):
        dice = random.Random(seed)
        folder = dict(dice.choice(small))
        name = dice.choice(sorted(folder))
        folder[name] = mutated(folder[name], dice)
        ask_everything({name: json.dumps(value).encode() for name, value in folder.items()}, seed)


def test_texts_cut_anywhere_are_read_or_refused():
    for seed in range(SEEDS // 3):
        dice = random.Random(seed)
        data = bytearray(dice.choice(FAULTS).read_bytes())
        for _ in range(dice.randint(1, 4)):
            start = dice.randrange(len(data))
            data[start : start + dice.choice([0, 1, 30])] = dice.choice(
                [b"", b"[", b"}", b"\t", b"\xff", b": ", b"&a *a", b"- "]
            )
        ask_everything({"network.yaml": bytes(data)}, seed)
