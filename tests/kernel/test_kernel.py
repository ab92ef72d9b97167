"""Filter programs: what packets did under given rulesets, and under random ones where a kernel can be asked."""

import json
from pathlib import Path

import pytest

from routrel.formats.sources import read_files
from routrel.forwarding.flow import Asker, Flow
from routrel.solving import solve
from tests.kernel.comparison import compare
from tests.kernel.namespaces import Lab, can_run

CASES = Path(__file__).parent / "cases"
RULESETS = 12
FIRST_SEED = 100


@pytest.mark.parametrize("name", sorted(path.name for path in CASES.iterdir() if path.is_dir()))
def test_every_flow_through_a_given_ruleset_ends_as_the_packets_did(name):
    folder = CASES / name / "captures"
    files = {f"{path.parent.name}/{path.name}": path.read_bytes() for path in folder.glob("*/*.json")}
    asker = Asker(solve(read_files(files)))
    wrong = []
    for flow in json.loads((CASES / name / "walks.json").read_text()):
        walk = asker.ask(Flow(flow["from"], flow["to"], flow["service"], source_address=flow.get("source")))
        arrives = walk.forward.verdict == "arrives" and walk.reply is not None and walk.reply.verdict == "arrives"
        if arrives != flow["round_trip"]:
            wrong.append(flow)
    assert wrong == []


def test_random_rulesets_do_in_the_program_what_they_do_in_the_kernel():
    reason = can_run()
    if reason:
        pytest.skip(reason)
    sure = 0
    with Lab() as lab:
        for seed in range(FIRST_SEED, FIRST_SEED + RULESETS):
            differences, lines, asked, unsure = compare(lab, seed)
            assert not differences, [seed, *lines, *differences]
            sure += asked - unsure
    assert sure > 60 * RULESETS  # of 99 flows each
