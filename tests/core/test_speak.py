"""``routrel speak`` against ``routrel listen``, and what it says where it cannot."""

import asyncio
import json
from pathlib import Path

import pytest

from routrel.cli import main
from routrel.formats.happenings import read_happenings
from routrel.listening.bmp import BmpSpeaker
from routrel.listening.spool import Spool
from routrel.listening.station import Station

TWO = """
routrel: 1
name: two
taken_at: 2026-11-20T06:00:00Z
devices:
  a:
    interfaces: {e1: {addresses: [192.0.2.1/30]}, lan: {addresses: [10.1.0.1/24]}}
    routing: {router_id: 10.0.0.1, bgp: {as: 64501, networks: [10.1.0.0/24], neighbors: {192.0.2.2: {as: 64502}}}}
  b:
    interfaces: {e1: {addresses: [192.0.2.2/30]}, lan: {addresses: [10.2.0.1/24]}}
    routing: {router_id: 10.0.0.2, bgp: {as: 64502, networks: [10.2.0.0/24], neighbors: {192.0.2.1: {as: 64501}}}}
links: [["a:e1", "b:e1"]]
"""
EVENTS = [
    {"time": "2026-11-20T05:00:00Z", "down": "session", "at": "a 192.0.2.2"},
    {"time": "2026-11-20T05:10:00Z", "up": "session", "at": "a 192.0.2.2"},
    {"time": "2026-11-20T05:20:00Z", "down": "link", "at": "a:e1"},
    {"time": "2026-11-20T05:30:00Z", "up": "link", "at": "a:e1"},
]


@pytest.fixture
def network(tmp_path) -> Path:
    (tmp_path / "n.yaml").write_text(TWO)
    (tmp_path / "e.jsonl").write_text("\n".join(map(json.dumps, EVENTS)))
    return tmp_path


def spoken(folder: Path, *more: str) -> list[str]:
    """What a listener keeps of a network's routers, a line for each thing that happened."""
    said: list[str] = []

    async def heard() -> bytes:
        station = Station(Spool(folder / "spool", "bmp", ".mrt"), said.append, BmpSpeaker)
        server = await station.serve("127.0.0.1", 0)
        writing = asyncio.create_task(station.write_on())
        at = f"127.0.0.1:{server.sockets[0].getsockname()[1]}"
        call = ["speak", str(folder / "n.yaml"), "--to", at, *more]
        assert await asyncio.to_thread(main, call) == 0
        for _ in range(100):
            if sum(line.endswith("ended") for line in said) == 2:
                break
            await asyncio.sleep(0.05)
        server.close()
        await station.end()
        writing.cancel()
        await station.turn()
        return b"".join(file.read_bytes() for file in sorted((folder / "spool").rglob("*.mrt")))

    found = read_happenings(asyncio.run(heard()), "heard.mrt")
    assert not found.unused
    lines = [(one.time.isoformat(), f"{'down' if one.is_down else 'up'} {one.change.at}") for one in found.events]
    rows = map(found.announcements.row, range(len(found.announcements)))
    lines += [
        (row.moment.isoformat(), f"{row.speaker} {row.prefix} {row.attributes.as_path}")
        for row in rows
        if row.prefix is not None and row.attributes is not None
    ]
    return [f"{time[11:16]} {line}" for time, line in sorted(lines)]


def test_routers_tell_who_is_up_what_they_hear_and_what_happened(network, capsys):
    a, b = "AS64502 192.0.2.2 to 192.0.2.1", "AS64501 192.0.2.1 to 192.0.2.2"
    assert spoken(network, "--events", str(network / "e.jsonl")) == [
        f"05:00 {b} 10.1.0.0/24 (64501,)",
        f"05:00 {a} 10.2.0.0/24 (64502,)",
        f"05:00 down {a}",
        f"05:00 up {b}",
        f"05:00 up {a}",
        f"05:10 {a} 10.2.0.0/24 (64502,)",
        f"05:10 up {a}",
    ]
    assert "of link nothing is said by BMP: 2 events" in capsys.readouterr().err


def test_a_session_of_a_routing_instance_comes_and_goes_as_any(network):
    vrf = TWO.replace(
        "    interfaces: {e1: {addresses: [192.0.2.1/30]}, lan: {addresses: [10.1.0.1/24]}}\n    routing:",
        (
            "    interfaces: {e1: {vrf: red, addresses: [192.0.2.1/30]}, lan: {vrf: red, addresses: [10.1.0.1/24]}}\n"
            "    vrfs: {red: {routing:"
        ),
    ).replace("{as: 64502}}}}\n", "{as: 64502}}}}}}\n", 1)
    (network / "n.yaml").write_text(vrf)
    (network / "e.jsonl").write_text("\n".join(json.dumps({**one, "vrf": "red"}) for one in EVENTS[:2]))
    found = spoken(network, "--events", str(network / "e.jsonl"))
    assert "05:00 down AS64502 192.0.2.2 to 192.0.2.1" in found and len(found) == 7


def test_without_events_all_is_as_it_is_now(network):
    assert [line[6:] for line in spoken(network)] == [
        "AS64501 192.0.2.1 to 192.0.2.2 10.1.0.0/24 (64501,)",
        "AS64502 192.0.2.2 to 192.0.2.1 10.2.0.0/24 (64502,)",
        "up AS64501 192.0.2.1 to 192.0.2.2",
        "up AS64502 192.0.2.2 to 192.0.2.1",
    ]


def test_moments_come_so_many_times_as_fast_as_they_did(network):
    speedy = spoken(network, "--events", str(network / "e.jsonl"), "--speed", "100000")
    assert len(speedy) == 7


@pytest.mark.parametrize(
    ("more", "says"),
    [
        (["--to", "127.0.0.1:1"], "nobody listens at 127.0.0.1:1"),
        (["--to", "here"], "no address to listen at"),
        (["--speed", "0"], "a number above 0"),
        (["--events", "nowhere.jsonl"], "nowhere.jsonl"),
    ],
)
def test_what_cannot_be_spoken_is_said(network, capsys, more, says):
    assert main(["speak", str(network / "n.yaml"), *more]) == 2
    assert says in capsys.readouterr().err


def test_a_network_whose_routers_hear_nothing_says_so(network, capsys):
    (network / "n.yaml").write_text(TWO.replace("as: 64501}", "as: 64999}"))
    assert main(["speak", str(network / "n.yaml")]) == 2
    assert "no BGP session of this network is up" in capsys.readouterr().err
