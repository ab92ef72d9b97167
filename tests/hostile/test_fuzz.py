"""Readers fed with whole files in which something was changed: an answer or located errors, never a crash.

A few hundred seeds in each run; ``ROUTREL_FUZZ=20000`` runs as many.
"""

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
from tests.mutations import mutated

ROOT = Path(__file__).parents[2]
SEEDS = int(os.environ.get("ROUTREL_FUZZ", "300"))
FAULTS = sorted((ROOT / "tests" / "faults" / "networks").glob("*.yaml"))
CAPTURES = sorted((ROOT / "tests" / "oracle" / "cases").glob("*/captures"))


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
