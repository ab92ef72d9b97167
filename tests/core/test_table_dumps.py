"""Dumps of BGP tables read: against a plain writer, cut and broken anywhere, beside devices of every kind."""

import bz2
import gzip
import ipaddress
import json
import lzma
import re
from contextlib import contextmanager, suppress

import pytest
from hypothesis import given
from hypothesis import settings as profile
from hypothesis import strategies as st

from routrel.analysis.trial import Trial
from routrel.formats.changes.reading import changes_of
from routrel.formats.errors import LoadError
from routrel.formats.mrt.attributes import MalformedAttributesError, read_attributes
from routrel.formats.mrt.showing import lines_around
from routrel.formats.mrt.table_dumps import read_table_dump
from routrel.formats.sources import read_files
from routrel.model.addresses import Address, Prefix
from routrel.solving import solve
from tests.core import dumps
from tests.core.networks import hops, table
from tests.examples import examples

HOP = "192.0.2.1"
PEERS = [(HOP, 64600), ("2001:db8:9::1", 4_200_000_001)]
NETWORK = """routrel: 1
name: border
devices:
  edge:
    interfaces:
      up: {addresses: [192.0.2.2/24, '2001:db8:9::2/64']}
      ix: {addresses: [198.51.100.2/24], vrf: blue}
    vrfs: {blue: {routing: {bgp: {as: 64500, neighbors: {198.51.100.1: {as: 64600}}}}}}
    policies: {in: [{set: {local_preference: 50}, match: {prefixes: [203.0.113.0/24]}, result: accept}]}
    routing: {bgp: {as: 64500, neighbors: {192.0.2.1: {as: 64600}, 192.0.2.9: {as: 64700}}}}
"""
BARE = """routrel: 1
name: border
devices:
  edge:
    interfaces: {up: {addresses: [192.0.2.2/24]}}
"""


def dump(*found: bytes, peers=PEERS, view: str = "") -> bytes:
    return dumps.index(peers, view) + b"".join(found)


def said(prefix: str, *as_path: int, **more) -> bytes:
    return dumps.routes(prefix, [(0, dumps.attributes(as_path or (64600,), HOP, **more))])


def read(data: bytes, text: str = NETWORK, name: str = "edge.mrt", **more: bytes):
    return read_files({"network.yaml": text.encode(), name: data, **more})


def refusal(data: bytes, **more) -> str:
    with pytest.raises(LoadError) as caught:
        read(data, **more)
    return str(caught.value.errors[0])


@contextmanager
def refused(*files: str):
    """What may be refused, and then in place."""
    try:
        yield
    except LoadError as error:
        places = {one.place.file for one in error.errors}
        if not places <= set(files):
            raise


PATHS = st.tuples(
    st.lists(st.integers(1, 2**32 - 1), max_size=300),
    st.none() | st.integers(0, 2**32 - 1),
    st.none() | st.integers(0, 2**32 - 1),
    st.lists(st.sampled_from(["64500:1", "0:0", "65535:65281", "64500:4294967295:0"]), max_size=70, unique=True),
    st.integers(0, 2),
    st.booleans(),
)
ROUTES = st.tuples(
    st.integers(0, 2**128 - 1), st.integers(0, 128), st.lists(st.tuples(st.integers(0, 1), PATHS), max_size=4)
)
COMMUNITY_NAMES = {"65535:65281": "no-export"}


@given(st.lists(ROUTES, max_size=8), st.booleans(), st.booleans())
@profile(max_examples=examples(200), deadline=None)
def test_what_is_written_is_read(routes, is_ipv6, has_ids):
    """Both families, with and without identifiers of paths; what one neighbour says of a prefix more than once too."""
    written, expected = [], {}
    for line, (value, length, entries) in enumerate(routes, 2):
        bits = 128 if is_ipv6 else 32
        network = ipaddress.ip_network((value % 2**bits, length % (bits + 1)), strict=False)
        found = []
        for peer, (as_path, med, preference, communities, origin, is_whole) in entries:
            hop = "2001:db8:9::7" if is_ipv6 else "192.0.2.7"
            found.append((peer, dumps.attributes(as_path[:255], hop, med, preference, communities, origin, is_whole)))
            names = frozenset(COMMUNITY_NAMES.get(one, one) for one in communities)
            told = tuple(as_path[:255]), ("igp", "egp", "incomplete")[origin], med, preference, names, hop
            expected.setdefault((line, peer), []).append((str(network), told))
        written.append(dumps.routes(str(network), found, has_ids))
    result = read_table_dump(dump(*written), "x.mrt")
    assert [(str(one.address), one.number) for one in result.peers] == PEERS
    got = {}
    for (peer, place), entries in sorted(result.entries.items()):
        for prefix, number, line in zip(entries.prefixes, entries.attributes, entries.lines, strict=True):
            one = result.attributes[number]
            local = one.local_preference
            told = one.as_path, one.origin, one.med, local, one.communities, str(one.next_hop)
            assert len(got.setdefault((line, peer), [])) == place
            got[line, peer].append((str(prefix), told))
    plain = {
        key: [(prefix, (*told[:3], 100 if told[3] is None else told[3], *told[4:])) for prefix, told in found]
        for key, found in expected.items()
    }
    assert got == plain
    assert not result.malformed
    assert len(lines_around(dump(*written), "x.mrt", 1)[1]) == len(routes) + 1


WHOLE = dump(said("203.0.113.0/24", 64600, 64601, med=5, communities=["64600:1"]), said("0.0.0.0/0"))


def test_a_dump_cut_anywhere_says_where():
    ends = {len(dump()), len(WHOLE) - len(said("0.0.0.0/0"))}
    for length in range(1, len(WHOLE)):
        if length in ends:
            read_table_dump(WHOLE[:length], "edge.mrt")  # fewer routes, as a shorter dump has them
        else:
            assert re.match(r"edge.mrt:\d+:1: .*record", refusal(WHOLE[:length]))


@given(st.data())
@profile(max_examples=examples(300), deadline=None)
def test_anything_in_any_place_is_read_or_refused_in_place(data):
    broken = bytearray(WHOLE)
    for _ in range(data.draw(st.integers(1, 4))):
        broken[data.draw(st.integers(0, len(broken) - 1))] = data.draw(st.integers(0, 255))
    with refused("edge.mrt"):
        solve(read(bytes(broken)))
    with refused("edge.mrt"):
        lines = lines_around(bytes(broken), "edge.mrt", 1)
        assert lines[2] == len(lines[1])


@given(st.binary(max_size=80))
@profile(max_examples=examples(300), deadline=None)
def test_attributes_of_anything_are_read_or_malformed(data):
    with suppress(MalformedAttributesError):
        assert len(read_attributes(data).as_path) <= len(data)


@pytest.mark.parametrize(
    ("data", "path"),
    [
        (dumps.attribute(2, dumps.segment([1, 2]) + dumps.segment([9, 4], kind=1)), (1, 2, 4)),
        (dumps.attribute(2, dumps.segment([7], kind=3) + dumps.segment([1])), (1,)),
        (b"", ()),
    ],
)
def test_sets_count_once_and_confederations_not(data, path):
    """RFC 4271 section 9.1.2.2 (a), RFC 5065 section 5.3."""
    assert read_attributes(data).as_path == path


def test_numbers_of_two_bytes_are_mended_by_those_of_four():
    """RFC 6793 section 4.2.3: AS_TRANS stands for what did not fit."""
    short = dumps.attribute(2, bytes([2, 3]) + bytes.fromhex("fc005ba0fc01"))
    wide = dumps.attribute(17, dumps.segment([4_200_000_000, 64513]), 0xC0)
    assert read_attributes(short + wide, 2).as_path == (64512, 4_200_000_000, 64513)
    assert read_attributes(short, 2).as_path == (64512, 23456, 64513)


@pytest.mark.parametrize(
    "data",
    [
        dumps.attribute(1, b"\3"),
        dumps.attribute(1, b""),
        dumps.attribute(2, b"\2"),
        dumps.attribute(2, b"\2\2\0\0\0\1"),
        dumps.attribute(2, b"\5\1\0\0\0\1"),
        dumps.attribute(3, b"\1\2\3"),
        dumps.attribute(4, b"\1"),
        dumps.attribute(8, b"\1\2\3"),
        dumps.attribute(10, b"\1"),
        dumps.attribute(14, b"\7\1"),
        dumps.attribute(32, b"\1"),
        b"\x40\1\5\0",
        b"\x50\1\0",
    ],
    ids=lambda data: data.hex(),
)
def test_a_path_with_malformed_attributes_is_none_and_said(data):
    """RFC 7606 section 2: treated as withdrawn; all else of the dump stands."""
    with pytest.raises(MalformedAttributesError):
        read_attributes(data)
    found = read(dump(dumps.routes("198.18.0.0/16", [(0, data)]), said("0.0.0.0/0")))
    assert len(found.devices["edge"].routing.bgp.neighbors[0].received[0]) == 1
    assert "1 of the dump's paths are malformed" in found.devices["edge"].gaps[0].message


def test_dumps_of_sessions_are_computed_with():
    data = dump(said("203.0.113.0/24", 64600, 64601), said("2001:db8:5::/48"))
    solved = solve(read(data))
    route = table(solved, "edge")["203.0.113.0/24"]
    assert (route.origin, hops(solved, route)) == ("external", ["192.0.2.1@up"])
    assert "2001:db8:5::/48" not in table(solved, "edge")
    (gap,) = solved.network.devices["edge"].gaps
    assert gap.message == "edge: 1 paths of 192.0.2.1 are not used: its session carries IPv4 alone"


def test_several_paths_of_one_neighbor_each_compete():
    """RFC 7911: each of a prefix's paths is a candidate of its own."""
    paths = [(0, dumps.attributes(path, "192.0.2.7")) for path in ((64600, 1, 2), (64600, 3), (64600, 4, 5))]
    solved = solve(read(dump(dumps.routes("203.0.113.0/24", paths, has_ids=True))))
    assert hops(solved, table(solved, "edge")["203.0.113.0/24"]) == ["192.0.2.7@up"]
    held = next(one for one in solved.solutions if one.protocol == "bgp")
    assert len(held.database.outside) == 3


def test_a_view_of_the_name_of_a_vrf_is_that_instances():
    peers = [("198.51.100.1", 64600)]
    data = dumps.index(peers, "blue") + dumps.routes("203.0.113.0/24", [(0, dumps.attributes([64600], "198.51.100.1"))])
    found = read(data).devices["edge"]
    assert found.vrfs["blue"].bgp.neighbors[0].received
    assert not found.routing.bgp.neighbors[0].received


def test_paths_of_nobody_and_of_another_as_are_not_used_and_said():
    peers = [("192.0.2.7", 64600), ("192.0.2.9", 64999), ("0.0.0.0", 0)]
    paths = [(number, dumps.attributes([64600], HOP)) for number in range(3)]
    found = read(dump(dumps.routes("203.0.113.0/24", paths), peers=peers)).devices["edge"]
    assert [gap.message for gap in found.gaps] == [
        "edge: the 1 paths of 192.0.2.7 (AS 64600) are not used: BGP names no such neighbor",
        "edge: the 1 paths of 192.0.2.9 are not used: they are of AS 64999, BGP expects AS 64700",
    ]


def test_a_device_without_bgp_forwards_by_the_best_paths():
    peers = [("192.0.2.1", 64600), ("192.0.2.9", 64700), ("192.0.2.10", 64800)]

    def best(*paths: bytes) -> list[str]:
        solved = solve(read(dump(dumps.routes("203.0.113.0/24", enumerate(paths)), peers=peers), BARE))
        return hops(solved, table(solved, "edge")["203.0.113.0/24"])

    long, short = dumps.attributes([64600, 1], "192.0.2.1"), dumps.attributes([64700], "192.0.2.9")
    assert best(long, short) == ["192.0.2.9@up"]
    assert best(dumps.attributes([64600, 1], "192.0.2.1", local_preference=200), short) == ["192.0.2.1@up"]
    assert best(dumps.attributes([64600], "192.0.2.1", origin=2), short) == ["192.0.2.9@up"]
    same = [dumps.attributes([64600], f"192.0.2.{host}", med) for host, med in ((1, 9), (9, 5), (10, 7))]
    assert best(*same) == ["192.0.2.9@up"]
    assert best(dumps.attributes([64600], "192.0.2.1", 9), short) == ["192.0.2.1@up"]  # by address
    solved = solve(read(dump(said("0.0.0.0/0")), BARE))
    assert sorted(table(solved, "edge")) == ["0.0.0.0/0", "192.0.2.0/24", "192.0.2.2/32"]
    assert solved.network.devices["edge"].known_by == "text"


def test_of_dumps_behind_each_other_the_last_is_true():
    found = read(dump(said("198.18.0.0/16")) + dump(said("203.0.113.0/24"))).devices["edge"]
    assert [str(one) for one in found.routing.bgp.neighbors[0].received[0].prefixes] == ["203.0.113.0/24"]
    assert "an earlier dump" in found.gaps[0].message


@pytest.mark.parametrize(
    ("suffix", "packed"),
    [("gz", gzip.compress), ("bz2", bz2.compress), ("xz", lzma.compress), ("gz", lambda data: data)],
)
def test_packed_dumps(suffix, packed):
    data, name = packed(dump(said("203.0.113.0/24"))), f"edge.mrt.{suffix}"
    if data[:2] == WHOLE[:2]:
        assert refusal(data, name=name).startswith(f"{name}:1:1: this packed file cannot be read")
    else:
        assert read(data, name=name).devices["edge"].routing.bgp.neighbors[0].received


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (dumps.record(1, b"", kind=16), "this is no dump of a table; found type 16, subtype 1"),
        (b"", "this is no dump of a table"),
        (said("0.0.0.0/0"), "record 1 of the dump cannot be: it names neighbor 0 of an index of 0 before it"),
        (dump(dumps.routes("0.0.0.0/0", [(7, b"")])), "record 2 of the dump cannot be: it names neighbor 7"),
        (dump(dumps.record(2, bytes([0, 0, 0, 0, 33, 1, 2, 3, 4, 5, 0, 0]))), "a prefix of 33 bits"),
        (dump(dumps.record(2, bytes([0, 0, 0, 0, 0, 0, 0, 9]))), "it is longer than its entries"),
    ],
    ids=["kind", "nothing", "no index", "no such neighbour", "length", "too long"],
)
def test_what_is_no_dump_is_refused(data, words):
    assert words in refusal(data)


def test_a_dump_belongs_to_a_device():
    assert "there is no device of this name; found 'edgy'" in refusal(WHOLE, name="edgy.mrt")
    assert read(WHOLE, name="edge/table.mrt").devices["edge"].routing.bgp.neighbors[0].received


def test_host_bits_in_a_prefix_are_of_no_meaning():
    """RFC 4271 section 4.3."""
    body = bytes([0, 0, 0, 0, 20, 203, 0, 0xFF]) + (1).to_bytes(2, "big") + bytes(6)
    path = dumps.attributes([64600], HOP)
    found = read_table_dump(dump(dumps.record(2, body + len(path).to_bytes(2, "big") + path)), "x.mrt")
    assert [str(one) for one in found.entries[0, 0].prefixes] == ["203.0.240.0/20"]


def test_an_ipv6_next_hop_of_the_link_alone():
    reach = bytes([32]) + bytes(16) + ipaddress.ip_address("fe80::7").packed
    assert read_attributes(dumps.attribute(14, reach)).next_hop == Address.parse("fe80::7")


@pytest.mark.parametrize("text", [NETWORK, BARE])
def test_a_trial_keeps_what_dumps_hold(text):
    """Changed devices are read from their text alone: what stands beside it stays theirs."""
    files = {"network.yaml": text.encode(), "edge.mrt": dump(said("203.0.113.0/24"))}
    changes = [{"set": "mtu", "at": "edge:up", "to": 9000}]
    if text is NETWORK:
        changes.append({"set": "weight", "at": "edge 192.0.2.1", "to": 7})
    trial = Trial.of(files, solve(read_files(files)), changes_of(json.loads(json.dumps(changes))))
    assert not trial.has_errors, trial.tried()
    again = solve(read_files({**files, **{name: one.encode() for name, one in trial.applied.changed_files.items()}}))
    assert table(trial.after, "edge").keys() == table(again, "edge").keys()
    assert "203.0.113.0/24" in table(trial.after, "edge")
    assert trial.after.network.devices["edge"].gaps == again.network.devices["edge"].gaps


def test_a_dump_is_no_text_to_edit():
    files = {"network.yaml": NETWORK.encode(), "edge.mrt": WHOLE}
    change = [{"edit": "file", "at": "edge.mrt", "text": "routrel: 1"}]
    (outcome,) = Trial.of(files, solve(read_files(files)), changes_of(change)).applied.outcomes
    assert outcome.state == "error"
    assert "network.yaml" in outcome.errors[0].allowed


def test_a_part_of_a_table_has_what_is_inside_a_prefix_and_what_covers_it():
    routes = [said(one) for one in ("0.0.0.0/0", "198.18.0.0/15", "198.18.1.0/24", "198.19.0.0/24", "203.0.113.0/24")]
    found = solve(read(dump(*routes))).table(0)
    for asked, expected in (
        ("198.18.0.0/16", ["0.0.0.0/0", "198.18.0.0/15", "198.18.1.0/24"]),
        ("198.18.0.0/15", ["0.0.0.0/0", "198.18.0.0/15", "198.18.1.0/24", "198.19.0.0/24"]),
        ("203.0.113.7/32", ["0.0.0.0/0", "203.0.113.0/24"]),
    ):
        assert [str(route.prefix) for route in found.within(Prefix.parse(asked))] == expected


def test_a_record_of_very_many_neighbors_is_read_in_one_go():
    peers = [(f"10.{number >> 8}.{number & 255}.1", 64600) for number in range(40_000)]
    path = dumps.attributes([64600], HOP)
    found = read_table_dump(dump(dumps.routes("0.0.0.0/0", [(n, path) for n in range(40_000)]), peers=peers), "x.mrt")
    assert len(found.entries) == 40_000 and len(found.attributes) == 1
