"""Files of BGP updates (RFC 6396 section 4.4)."""

import gzip
import struct
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.formats.errors import LoadError
from routrel.formats.mrt.updates import Updates, read_updates
from routrel.model.announcements import UNNUMBERED
from tests.core import dumps
from tests.examples import examples

NET, OTHER, SIX = "203.0.113.0/24", "198.51.100.0/24", "2001:db8:7::/48"
SAID = dumps.attributes([64600, 64601], "192.0.2.1")
BASE = datetime.fromtimestamp(dumps.TIME, UTC)


def rows(found: Updates) -> list[tuple[str, str]]:
    """Each row: what, and the AS path; '' for a withdrawal."""
    told = []
    for at in range(len(found.announcements)):
        row = found.announcements.row(at)
        way = "" if row.attributes is None else " ".join(map(str, row.attributes.as_path))
        told.append((str(row.prefix or "all"), way))
    return told


def test_announced_and_withdrawn_prefixes_of_both_families():
    six = dumps.attributes([64600], "2001:db8:9::1")
    data = b"".join(
        (
            dumps.heard(dumps.update([NET, OTHER], SAID)),
            dumps.heard(dumps.update([SIX], six), peer="2001:db8:9::1", local="2001:db8:9::2"),
            dumps.heard(dumps.update(withdrawn=[OTHER]), time=dumps.TIME + 5),
            dumps.heard(dumps.update(withdrawn=[SIX]), peer="2001:db8:9::1", local="2001:db8:9::2"),
            dumps.heard(dumps.message(b"", 4)),  # a KEEPALIVE
        )
    )
    found = read_updates(data, "u.mrt")
    assert rows(found) == [(NET, "64600 64601"), (OTHER, "64600 64601"), (SIX, "64600"), (OTHER, ""), (SIX, "")]
    assert found.announcements.speakers == ["AS64600 192.0.2.1 to 192.0.2.2", "AS64600 2001:db8:9::1 to 2001:db8:9::2"]
    assert str(found.announcements.row(2).attributes.next_hop) == "2001:db8:9::1"
    assert found.announcements.row(3).moment == BASE + timedelta(seconds=5) and not found.unused
    assert rows(read_updates(gzip.compress(data), "u.mrt.gz")) == rows(found)


def test_as_numbers_of_two_bytes_microseconds_and_identifiers_of_paths():
    short = dumps.attribute(1, b"\0") + dumps.attribute(2, b"\2\1" + struct.pack(">H", 64600))
    short += dumps.attribute(3, dumps.address("192.0.2.1"))
    data = dumps.heard(dumps.update([NET], short), subtype=1)
    data += dumps.heard(dumps.update([NET], SAID), time=dumps.TIME + 0.25, is_fine=True)
    data += dumps.heard(dumps.update([NET], SAID, path=7), subtype=9)
    found = read_updates(data, "u.mrt").announcements
    assert [found.row(at).attributes.as_path for at in range(3)] == [(64600,), (64600, 64601), (64600, 64601)]
    assert [(found.row(at).moment - BASE).microseconds for at in range(3)] == [0, 250_000, 0]
    assert [found.row(at).path for at in range(3)] == [UNNUMBERED, UNNUMBERED, 7]


def test_a_session_that_turns_is_an_event_and_its_paths_are_gone():
    data = dumps.turned(True) + dumps.heard(dumps.update([NET], SAID)) + dumps.turned(False)
    data += dumps.heard(struct.pack(">HH", 1, 3), subtype=5)  # from Idle to Active: it was not up
    found = read_updates(data, "u.mrt")
    assert rows(found) == [("all", ""), (NET, "64600 64601"), ("all", "")]
    assert [(one.change.verb, one.change.at) for one in found.events] == [
        ("enable", "AS64600 192.0.2.1 to 192.0.2.2"),
        ("disable", "AS64600 192.0.2.1 to 192.0.2.2"),
    ]


@pytest.mark.parametrize(
    ("said", "why"),
    [
        (SAID.replace(bytes([0x40, 1, 1, 0]), bytes([0x40, 1, 1, 9])), "no origin"),  # RFC 7606 section 7.1
        (SAID.replace(bytes([0x40, 1, 1, 0]), b""), "attribute 1 is not there"),  # section 3 d
        (dumps.attribute(1, b"\0") + dumps.attribute(2, dumps.segment([64600])), "attribute 3 is not there"),
        (SAID + b"\x40\x04\x20\0", "attribute 4 says 32 bytes"),  # section 4
        (SAID + dumps.attribute(8, b"123", 0xC0), "communities have 3 bytes"),  # section 7.8
    ],
)
def test_malformed_attributes_withdraw_what_they_came_with(said, why):
    found = read_updates(dumps.heard(dumps.update([NET], said)), "u.mrt")
    assert rows(found) == [(NET, "")]
    assert [one for one in found.unused if why in one and "RFC 7606" in one]


@pytest.mark.parametrize(
    "body",
    [
        dumps.message(b"\0\1"),
        dumps.message(b"\0\x09\0\0"),
        dumps.message(b"\0\0\0\x09"),
        dumps.message(b"\0\0\0\0\x21\1\2\3\4\5"),  # a prefix of 33 bits
        dumps.message(b"\0\0\0\0\x18\1"),
        dumps.update([NET], SAID)[:-1],
        b"\0" * 30,
        dumps.message(b"\0\0\0\x06\x80\x0e\x03\0\2\1"),  # MP_REACH_NLRI without a next hop
        dumps.message(b"\0\0\0\x0c" + b"\x80\x0f\x03\0\2\1" * 2),  # MP_UNREACH_NLRI twice
    ],
)
def test_a_message_whose_prefixes_cannot_be_told_is_counted_and_left(body):
    found = read_updates(dumps.heard(dumps.update([OTHER], SAID)) + dumps.heard(body), "u.mrt")
    assert rows(found) == [(OTHER, "64600 64601")]
    (what,) = found.unused
    assert "end a session" in what


def test_other_families_and_other_records_are_counted():
    vpn = dumps.attribute(15, b"\0\1\x80" + b"\0", 0x80)
    data = dumps.heard(dumps.message(b"\0\0" + struct.pack(">H", len(vpn)) + vpn))
    data += dumps.index([("192.0.2.1", 64600)]) + dumps.heard(b"", subtype=2)
    data += dumps.heard(dumps.update([NET], SAID))
    assert dict(read_updates(data, "u.mrt").unused) == {
        "updates of address family 1, 128": 1,
        "records of type 13, subtype 1": 1,
        "records of type 16, subtype 2": 1,
    }


def test_a_file_that_ends_inside_a_record_is_read_up_to_there():
    data = dumps.heard(dumps.update([NET], SAID)) + dumps.heard(dumps.update([OTHER], SAID))
    first = len(data) // 2
    for cut in range(first):
        with pytest.raises(LoadError, match="no file of updates"):
            read_updates(data[:cut], "u.mrt")
    for cut in range(first, len(data)):
        found = read_updates(data[:cut], "u.mrt")
        assert rows(found) == [(NET, "64600 64601")]
        assert bool(found.unused) is (cut != first)
        if found.unused:
            assert f"inside record 2, which begins at byte {first}" in next(iter(found.unused))


@given(
    data=st.data(),
    records=st.lists(
        st.sampled_from(
            [
                dumps.heard(dumps.update([NET, OTHER], SAID, [OTHER])),
                dumps.heard(dumps.update([SIX], dumps.attributes([64600], "2001:db8:9::1"), [SIX])),
                dumps.heard(dumps.update([NET], SAID, path=3), subtype=9),
                dumps.turned(False),
            ]
        ),
        min_size=1,
        max_size=4,
    ),
)
@settings(max_examples=examples(300), deadline=None)
def test_whatever_bytes_are_wrong_it_is_said_and_nothing_breaks(data, records):
    whole = bytearray(b"".join(records))
    for _ in range(data.draw(st.integers(1, 6))):
        whole[data.draw(st.integers(0, len(whole) - 1))] = data.draw(st.integers(0, 255))
    try:
        found = read_updates(bytes(whole), "u.mrt")
    except LoadError:
        return
    assert len(rows(found)) == len(found.announcements)
