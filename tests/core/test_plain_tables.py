"""Routing tables as copied from a terminal: the kernel's and birdc's, line by line; against the kernel's own JSON."""

import json
import subprocess
import uuid
import zipfile

import pytest
from hypothesis import given
from hypothesis import settings as profile
from hypothesis import strategies as st

from routrel.formats.errors import LoadError
from routrel.formats.sources import files_of_upload, read_files
from routrel.solving import solve
from tests.core.networks import hops, table
from tests.core.test_table_dumps import refused
from tests.examples import examples
from tests.kernel.namespaces import can_run

KERNEL = """\
default via 10.0.0.1 dev d0 proto ospf metric 20
10.0.0.0/30 dev d0 proto kernel scope link src 10.0.0.2
10.0.1.0/24 dev d1 proto kernel scope link src 10.0.1.2
10.5.0.0/16 proto bgp metric 20
\tnexthop via 10.0.0.1 dev d0 weight 1
\tnexthop via 10.0.1.1 dev d1 weight 2
\tnexthop via 10.0.1.9 dev d1 weight 1 dead linkdown
10.6.0.1 dev d1 scope link
blackhole 10.7.0.0/16
unreachable 10.8.0.0/16 metric 99
prohibit 10.10.0.0/16
10.12.0.0/16 nhid 5 via 10.0.0.1 dev d0
10.13.0.0/16 via 10.0.0.1 dev d0 proto babel onlink
"""
IPV6 = """\
2001:db8::/64 dev d0 proto kernel metric 256 pref medium
2001:db8:5::/48 metric 1024 pref medium
\tnexthop via 2001:db8::1 dev d0 weight 1
\tnexthop via fe80::9 dev d1 weight 1
fe80::/64 dev d0 proto kernel metric 256 pref medium
multicast ff00::/8 dev d0 proto kernel metric 256 pref medium
local 2001:db8::2 dev d0 table local proto kernel metric 0 pref medium
default via 2001:db8::1 dev d0 metric 1024 pref medium
"""
BIRD = """\
BIRD 2.0.12 ready.
Table master4:
0.0.0.0/0            unicast [upstream 11:19:00.118 from 10.9.9.9] * (100) [AS64510i]
\tvia 10.0.0.2 on x
                     unicast [ospf1 11:19:00.118] E2 (90/10/1) [10.9.9.9]
\tvia 10.0.0.6 on z
10.0.0.0/30          unicast [direct1 11:19:00.118] * (240)
\tdev x
10.3.0.0/24          unicast [inside 11:19:00.118] * I (150/20) [10.9.0.1]
\tvia 10.0.0.2 on x weight 1
\tvia 10.0.0.6 on z weight 1
10.7.0.0/16          blackhole [static1 11:19:00.118] * (200)
10.8.0.0/16          prohibited [static1 11:19:00.118] * (200)
10.4.0.0/24          unicast [ospf1 11:19:00.118] ! I (150/20) [10.9.0.1]
\tvia 10.0.0.2 on x
"""
ALL = """\
BIRD 2.0.12 ready.
Table master4:
10.3.0.0/24          unicast [inside 11:19:00.118] * (120/3)
\tvia 10.0.0.2 on x
\tType: RIP univ
\tRIP.metric: 3
"""
OLD = """\
BIRD 1.6.8 ready.
10.3.0.0/24        via 10.0.0.2 on x [ospf1 2026-11-29] * I (150/20) [10.9.0.1]
10.4.0.0/24        multipath [ospf1 2026-11-29] * I (150/30) [10.9.0.1]
\tvia 10.0.0.2 on x weight 1
\tvia 10.0.0.6 on z weight 1
"""


def read(text: str):
    return solve(read_files({"edge.txt": text.encode()}))


def rows(solved) -> dict[str, tuple]:
    found = table(solved, "edge").items()
    return {prefix: (one.protocol, one.preference, one.metric, one.action, hops(solved, one)) for prefix, one in found}


def test_the_kernels_table():
    solved = read(KERNEL)
    assert rows(solved) == {
        "0.0.0.0/0": ("ospf", None, 20, "forward", ["10.0.0.1@d0"]),
        "10.0.0.0/30": ("connected", None, None, "forward", ["itself@d0"]),
        "10.0.0.2/32": ("local", None, 0, "forward", ["itself@d0"]),
        "10.0.1.0/24": ("connected", None, None, "forward", ["itself@d1"]),
        "10.0.1.2/32": ("local", None, 0, "forward", ["itself@d1"]),
        "10.5.0.0/16": ("bgp", None, 20, "forward", ["10.0.0.1@d0", "10.0.1.1@d1"]),
        "10.6.0.1/32": ("static", None, None, "forward", ["itself@d1"]),
        "10.7.0.0/16": ("static", None, None, "discard", []),
        "10.8.0.0/16": ("static", None, 99, "reject", []),
        "10.10.0.0/16": ("static", None, None, "reject", []),
        "10.12.0.0/16": ("static", None, None, "forward", ["10.0.0.1@d0"]),
        "10.13.0.0/16": ("observed", None, None, "forward", ["10.0.0.1@d0"]),
    }
    device = solved.network.devices["edge"]
    assert {name: [str(one) for one in i.addresses] for name, i in device.interfaces.items()} == {
        "d0": ["10.0.0.2/30"],
        "d1": ["10.0.1.2/24"],
    }
    assert device.known_by == "table" and device.gaps == ()
    assert table(solved, "edge")["10.5.0.0/16"].place.line == 5


def test_the_kernels_table_of_ipv6():
    found = rows(read(IPV6))
    assert found["::/0"][4] == ["2001:db8::1@d0"]
    assert found["2001:db8:5::/48"][4] == ["2001:db8::1@d0", "fe80::9@d1"]
    assert found["2001:db8::2/128"][0] == "local"
    assert not [prefix for prefix in found if prefix.startswith(("fe80", "ff00"))]


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("10.11.0.0/16 via inet6 fe80::1 dev d0", "a next hop of another family is not represented"),
        ("10.11.0.0/16 encap mpls 100 via 10.0.0.1 dev d0", "a next hop with an encapsulation is not represented"),
        ("10.11.0.0/16 via 10.0.0.1 dev d0 table 100", "a route of table 100 is not represented"),
        ("throw 10.11.0.0/16", "a route of type throw is not represented"),
    ],
)
def test_what_the_model_cannot_hold_is_a_gap(line, said):
    solved = read(KERNEL + line + "\n")
    assert [gap.message for gap in solved.network.devices["edge"].gaps] == [said]
    assert "10.11.0.0/16" not in table(solved, "edge")


def test_birds_table_has_what_it_uses():
    assert rows(read(BIRD)) == {
        "0.0.0.0/0": ("bgp", 100, None, "forward", ["10.0.0.2@x"]),
        "10.0.0.0/30": ("connected", 240, None, "forward", ["itself@x"]),
        "10.3.0.0/24": ("ospf", 150, 20, "forward", ["10.0.0.2@x", "10.0.0.6@z"]),
        "10.7.0.0/16": ("static", 200, None, "discard", []),
        "10.8.0.0/16": ("static", 200, None, "reject", []),
    }


def test_a_type_says_more_than_a_name_and_older_tables_read_too():
    assert rows(read(ALL)) == {"10.3.0.0/24": ("rip", 120, 3, "forward", ["10.0.0.2@x"])}
    assert rows(read(OLD)) == {
        "10.3.0.0/24": ("ospf", 150, 20, "forward", ["10.0.0.2@x"]),
        "10.4.0.0/24": ("ospf", 150, 30, "forward", ["10.0.0.2@x", "10.0.0.6@z"]),
    }


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (KERNEL + "Good morning\n", "edge.txt:14:1: this is no line of a routing table; found 'Good morning'"),
        (BIRD + "Good morning\n", "edge.txt:16:1: this is no line of a routing table; found 'Good morning'"),
        ("10.0.0.0/33 dev d0\n", "edge.txt:1:1: this is no prefix; found '10.0.0.0/33'"),
        ("10.0.0.0/30 via 10.0.0.300 dev d0\n", "edge.txt:1:1"),
        ("10.0.0.0/30 dev d0 metric many\n", "edge.txt:1:1"),
    ],
)
def test_a_line_that_is_none_is_refused_in_place(text, said):
    with pytest.raises(LoadError) as caught:
        read(text)
    assert str(caught.value.errors[0]).startswith(said)


LINES = st.sampled_from([*KERNEL.splitlines(), *IPV6.splitlines(), *BIRD.splitlines(), "", "\t", "nexthop"])


@given(st.lists(LINES | st.text(st.sampled_from("0123456789abf.:/ \tviadevmetric[]()*"), max_size=40), max_size=12))
@profile(max_examples=examples(300), deadline=None)
def test_anything_is_read_or_refused_in_place(lines):
    with refused("edge.txt", "."):
        read("\n".join(lines))


def test_texts_of_other_kinds_beside_a_network_are_passed_over(tmp_path):
    with zipfile.ZipFile(tmp_path / "n.zip", "w") as archive:
        archive.writestr("edge.txt", KERNEL)
        archive.writestr("notes.txt", "the harbour, as it was on Sunday\n")
    assert set(files_of_upload("n.zip", (tmp_path / "n.zip").read_bytes())) == {"edge.txt"}


@pytest.mark.skipif(bool(can_run()), reason=can_run() or "")
def test_the_text_of_a_kernel_and_its_json_are_one_table():
    """A real kernel's table, both ways: the text by this reader, the JSON as a capture."""
    name = f"routrel-{uuid.uuid4().hex[:8]}"

    def run(command: str) -> str:
        asked = ["ip", "netns", "exec", name, *command.split()]
        return subprocess.run(asked, capture_output=True, text=True, check=True).stdout

    subprocess.run(["ip", "netns", "add", name], check=True)
    try:
        for one in ("d0", "d1"):
            run(f"ip link add {one} type veth peer name p{one}")
            run(f"ip link set {one} up")
            run(f"ip link set p{one} up")
        for one in ("10.0.0.2/30 dev d0", "10.0.1.2/24 dev d1", "2001:db8::2/64 dev d0 nodad"):
            run(f"ip addr add {one}")
        for one in (
            "default via 10.0.0.1 proto ospf metric 20",
            "10.5.0.0/16 proto bgp metric 20 nexthop via 10.0.0.1 nexthop via 10.0.1.1 weight 2",
            "blackhole 10.7.0.0/16",
            "unreachable 10.8.0.0/16 metric 99",
            "10.6.0.1 dev d1",
            "10.9.0.0/16 via 10.0.1.1 proto static",
        ):
            run(f"ip route add {one}")
        text = run("ip route show")
        capture = {
            "edge/addresses.json": run("ip -j -d address show").encode(),
            "edge/routes.json": run("ip -j -d route show table all").encode(),
        }
    finally:
        subprocess.run(["ip", "netns", "del", name], check=True)
    assert json.loads(capture["edge/routes.json"])
    captured = solve(read_files(capture))
    mine, theirs = rows(read(text)), rows(captured)
    of_capture = {prefix: row for prefix, row in theirs.items() if ":" not in prefix}
    assert {prefix: (row[0], row[3], row[4]) for prefix, row in mine.items()} == {
        prefix: (row[0], row[3], row[4]) for prefix, row in of_capture.items()
    }


def test_a_line_without_end_is_read_in_one_go():
    """Each expression takes a line once, however it goes on: this took minutes."""
    with pytest.raises(LoadError):
        read("BIRD 2.0.12 ready.\n10.0.0.0/8 unicast [" + "a" * 2_000_000)
