"""What a stand-in says by BMP is what the network's routers hear, and what happened to their sessions."""

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.analysis.heard_paths import heard_sessions
from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.switches import Switch
from routrel.cli_speak import _beginning, _happening
from routrel.formats.happenings import read_happenings
from routrel.formats.mrt.updates import read_updates
from routrel.formats.routing_grammar import community, community_numbers
from routrel.formats.sources import files_of, read_files
from routrel.listening.bmp import COMMON, BmpSpeaker
from routrel.listening.bmp_stand_in import announced, initiation, session_up, withdrawn
from routrel.model.addresses import Address, Prefix
from routrel.model.announcements import WITHDRAWN
from routrel.model.received import HeardSession, PathAttributes
from routrel.solving import solve
from tests.examples import examples

EXAMPLES = Path(__file__).parents[2] / "examples"
NOON = datetime(2026, 11, 20, 12, tzinfo=UTC)
NUMBERS = st.integers(1, 2**32 - 1)
ADDRESS = Address.parse("192.0.2.1")


def heard(messages: list[bytes], speaker: BmpSpeaker | None = None):
    """What a listener keeps of messages, read again."""
    speaker = speaker or BmpSpeaker()
    records = [speaker.records_of(COMMON.unpack_from(one)[2], one[COMMON.size :], 0.0) for one in messages]
    return read_updates(b"".join(records), "played.mrt")


@st.composite
def paths(draw) -> tuple[Prefix, PathAttributes]:
    family = draw(st.sampled_from([4, 6]))
    bits = 32 if family == 4 else 128
    length = draw(st.integers(0, bits))
    network = draw(st.integers(0, 2**bits - 1)) >> (bits - length) << (bits - length)
    communities = draw(st.frozensets(st.sampled_from(["64500:80", "no-export", "64500:1:4000000000"])))
    hop = Address(family, draw(st.integers(1, 2**bits - 1)))
    return Prefix(family, network, length), PathAttributes(
        tuple(draw(st.lists(NUMBERS, max_size=300))),
        draw(st.sampled_from(["igp", "egp", "incomplete"])),
        draw(st.none() | st.integers(0, 2**32 - 1)),
        draw(st.integers(0, 2**32 - 1)),
        communities,
        hop,
    )


@given(st.lists(paths(), max_size=5), st.booleans(), st.sampled_from(["192.0.2.9", "2001:db8::9"]), NUMBERS)
@settings(max_examples=examples(200), deadline=None)
def test_a_path_is_heard_as_it_was_said(said, is_internal, neighbor, number):
    local = Address.parse("192.0.2.1" if "." in neighbor else "2001:db8::1")
    session = HeardSession("r", "default", local, 64500, 1, Address.parse(neighbor), number, 2, is_internal, said)
    first = [initiation("r"), *session_up(session, NOON)]
    later = [withdrawn(session, prefix, NOON + timedelta(seconds=1)) for prefix, _ in said]
    found = heard([*first, *later, *(announced(session, *one, NOON + timedelta(seconds=2)) for one in said)])
    assert [event.is_down for event in found.events] == [False] and not found.unused
    first_row, *rows = [found.announcements.row(at) for at in range(len(found.announcements))]
    assert first_row.prefix is None  # a session that comes up has said nothing yet
    assert [row.prefix for row in rows] == [prefix for prefix, _ in said] * 3
    assert {row.speaker for row in rows} <= {f"AS{number} {neighbor} to {local}"}
    for row, (_, path) in zip([*rows[: len(said)], *rows[2 * len(said) :]], [*said, *said], strict=True):
        assert row.attributes == (path if is_internal else path._replace(local_preference=100))
    assert all(found.announcements.numbers[1 + len(said) + at] == WITHDRAWN for at in range(len(said)))


def test_the_demo_is_played():
    files = files_of(EXAMPLES / "saltmarsh")
    solved = solve(read_files(files))
    read = read_happenings((EXAMPLES / "saltmarsh-history" / "events.jsonl").read_bytes(), "events.jsonl")
    sessions = {Switch("session", f"{one.device} {one.neighbor}", one.vrf): one for one in heard_sessions(solved)}
    assert {one.device for one in sessions.values()} >= {"bw-border", "tq-border", "bellbuoy"}
    timeline = Timeline(files, solved, solved.network.taken_at, read.events)
    said = [*_beginning(timeline, sessions, read.span[0]), *_happening(timeline, sessions, read)]
    found = heard([message for _, device, message in said if device == "bw-border"])
    happened = [event for event in read.events if event.change.at == "bw-border 198.51.100.2"]
    known = [event for event in found.events if "198.51.100.2" in event.change.at]
    assert [(one.time, one.is_down) for one in known[1:]] == [(one.time, one.is_down) for one in happened]
    # What a border hears of its carrier is what the explanation says it was sent.
    bellbuoy = sessions[Switch("session", "bw-border 198.51.100.2")]
    assert str(bellbuoy.local) == "198.51.100.1" and len(bellbuoy.paths) > 100
    path = dict(bellbuoy.paths)[Prefix.parse("172.21.7.0/24")]
    assert path.as_path[0] == bellbuoy.neighbor_number == 64502


@pytest.mark.parametrize("name", ["no-export", "64500:80", "64500:1:2"])
def test_communities_have_numbers(name):
    assert community(":".join(map(str, community_numbers(name)))) == name
