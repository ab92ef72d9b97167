"""Small inputs that once stopped the program: each is answered, refused with its place, or said to be cut.

They run in a process of their own with a bound on memory; the bound on time only keeps a hang from lasting.
"""

import json
import lzma
import os
import resource
import subprocess
import sys
from pathlib import Path

import pytest

from routrel.formats.errors import LoadError
from routrel.formats.sources import read_files

INPUTS = Path(__file__).parent / "inputs"
ROOT = Path(__file__).parents[2]
GIB = 1024**3
HANG = 300


def run(memory: int, *arguments: str | Path) -> subprocess.CompletedProcess:
    """The command line with a bound on its address space."""

    def bound() -> None:
        resource.setrlimit(resource.RLIMIT_AS, (memory, memory))

    environment = {**os.environ, "PYTHONPATH": str(ROOT / "src"), "OPENBLAS_NUM_THREADS": "1"}
    command = [sys.executable, "-m", "routrel", *map(str, arguments)]
    return subprocess.run(
        command, capture_output=True, text=True, env=environment, preexec_fn=bound, timeout=HANG, check=False
    )


@pytest.fixture
def unpacked(tmp_path):
    def unpack(name: str) -> Path:
        path = tmp_path / name
        path.write_bytes(lzma.decompress((INPUTS / f"{name}.xz").read_bytes()))
        return path

    return unpack


def test_an_as_path_expression_takes_linear_time():
    done = run(GIB, "check", INPUTS / "regex-poly-8.yaml")
    assert done.returncode in (0, 1) and "Traceback" not in done.stderr


def test_entries_of_many_ports_by_many_ports_are_looked_through_in_little_memory():
    done = run(GIB // 2, "check", INPUTS / "acl-multiport-1x2000.yaml")
    assert done.returncode == 0, done.stderr


def test_thousands_of_entries_are_looked_through_or_said_to_be_left_out(unpacked):
    done = run(GIB, "check", unpacked("acl-boxes-4000.yaml"))
    assert done.returncode == 0, done.stderr


def test_a_ring_of_redistribution_ends():
    done = run(GIB, "check", INPUTS / "redis-ring-24.yaml")
    assert done.returncode in (0, 1), done.stderr
    assert "redistribut" in done.stdout


def test_thousands_of_errors_end_with_the_first_thousand(unpacked):
    done = run(GIB, "check", unpacked("nearest-8000x2000.yaml"))
    assert done.returncode == 2
    assert "reading stopped after 1000 errors" in done.stderr + done.stdout


def test_four_thousand_routers_on_one_segment_are_solved(unpacked):
    done = run(GIB, "routes", unpacked("lan-ospf-4000.yaml"), "--device", "r7", "--json")
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["routes"]


def test_tipping_points_on_a_grid_are_said_to_be_cut(unpacked):
    done = run(GIB, "why", unpacked("grid-32.yaml"), "--device", "r0x0", "--prefix", "1.1.31.31/32", "--json")
    answer = json.loads(done.stdout)
    assert answer["tipping"]
    assert any("left out" in note for note in answer["notes"])


def test_an_archive_of_too_many_values_is_refused_with_its_place():
    done = run(GIB, "check", INPUTS / "z8.zip")
    assert done.returncode == 2
    assert "network.yaml:3:" in done.stderr + done.stdout and "the text holds too much" in done.stderr + done.stdout


@pytest.mark.parametrize("number", range(1, 8))
def test_a_capture_that_no_command_prints_is_a_located_error(number, tmp_path):
    for name, text in json.loads((INPUTS / "captures" / f"capture-{number}.json").read_text())["files"].items():
        path = tmp_path / name
        path.parent.mkdir(exist_ok=True)
        path.write_text(text)
    done = run(GIB, "check", tmp_path)
    assert done.returncode == 2
    assert ".json:1:" in done.stderr + done.stdout and "Traceback" not in done.stderr


def test_many_vlans_by_many_ports_that_take_them_all_are_refused_where_most_of_them_are():
    switches = {
        "trunk": {"kind": "switch", "interfaces": {"t": {"switchport": {"trunk": list(range(1, 4095))}}}},
        "plain": {"kind": "switch", "interfaces": {f"p{number}": {} for number in range(250)}},
    }
    document = {"routrel": 1, "name": "tags", "devices": switches, "links": [{"ends": ["trunk:t", "plain:p0"]}]}
    with pytest.raises(LoadError) as refused:
        read_files({"tags.json": json.dumps(document).encode()})
    assert "found 250 such ports, 250 of them here, and 4095 tags" in str(refused.value)
    document["devices"]["plain"]["interfaces"] = {"p0": {}}
    assert read_files({"tags.json": json.dumps(document).encode()}).name == "tags"
