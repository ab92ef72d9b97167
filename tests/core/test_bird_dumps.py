"""A dump that a routing daemon wrote of its tables, held against the tables as it shows them."""

import re
import shutil
import subprocess
import time
from pathlib import Path

import pytest

from routrel.formats.errors import LoadError
from routrel.formats.mrt.table_dumps import read_table_dump
from routrel.formats.mrt.updates import read_updates

BIRD = Path("/usr/sbin/bird")
SAYS = """
router id 10.9.0.1;
protocol device { }
protocol static s4 { ipv4;
  route 198.18.1.0/24 blackhole { bgp_path.prepend(64540); bgp_community.add((64540, 7)); };
  route 198.18.2.0/23 blackhole { bgp_large_community.add((64540, 1, 2)); };
  route 198.18.4.0/24 blackhole { bgp_path.prepend(4200000001); bgp_path.prepend(64540); bgp_origin = ORIGIN_EGP; };
  route 0.0.0.0/0 blackhole; }
protocol static s6 { ipv6;
  route 2001:db8:1::/48 blackhole { bgp_path.prepend(64541); bgp_path.prepend(64542); bgp_origin = ORIGIN_INCOMPLETE; };
}
protocol bgp one { local 127.0.0.1 port 17901 as 64510; neighbor 127.0.0.2 port 17902 as 64500; multihop; strict bind;
  ipv4 { export filter { if net = 198.18.2.0/23 then bgp_med = 30; accept; }; import none; };
  ipv6 { export all; import none; next hop address 2001:db8::1; }; }
"""
SAYS_MORE = """
router id 10.9.0.3;
protocol device { }
protocol static s4 { ipv4; route 198.18.1.0/24 blackhole; route 198.18.2.0/23 blackhole; route 198.18.4.0/24 blackhole; }
protocol bgp two { local 127.0.0.3 port 17901 as 4200000009; neighbor 127.0.0.2 port 17902 as 64500; multihop; strict bind;
  ipv4 { export all; import none; }; }
"""
HEARS = """
router id 10.9.0.2;
protocol device { }
protocol static { ipv4; route 127.0.0.0/8 via "lo"; }
protocol static { ipv6; route 2001:db8::/32 via "lo"; }
protocol bgp one { local 127.0.0.2 port 17902 as 64500; neighbor 127.0.0.1 port 17901 as 64510; multihop; strict bind;
  ipv4 { import filter { bgp_local_pref = 70; accept; }; export none; }; ipv6 { import all; export none; }; }
protocol bgp two { local 127.0.0.2 port 17902 as 64500; neighbor 127.0.0.3 port 17901 as 4200000009; multihop; strict bind;
  ipv4 { import all; export none; }; }
protocol mrt { table "master*"; filename "FOLDER/%N.mrt"; period 1; }
"""


def shown(folder: Path) -> list[tuple[str, ...]]:
    """The paths that the daemon shows: prefix, neighbour, AS path, origin, next hop, MED, local preference, communities."""
    asked = ["birdc", "-s", str(folder / "hears.ctl"), "show", "route", "all"]
    text = subprocess.run(asked, capture_output=True, text=True, timeout=10, check=True).stdout
    found, prefix = [], ""
    for block in re.split(r"\n(?=\S* +(?:unicast|unreachable) )", text)[1:]:
        prefix = block.split()[0] if not block.startswith(" ") else prefix
        values = dict(re.findall(r"\tBGP\.(\w+): ?(.*)", block))
        if not values:
            continue
        sender = re.search(r"from (\S+)\]", block)
        assert sender or values["next_hop"] == "2001:db8::1", block
        communities = re.findall(r"\(([\d, ]+)\)", values.get("community", "") + values.get("large_community", ""))
        found.append(
            (
                prefix,
                sender.group(1) if sender else "127.0.0.1",
                values["as_path"],
                values["origin"].lower(),
                values["next_hop"].split()[0],
                values.get("med", ""),
                values["local_pref"],
                " ".join(sorted(one.replace(", ", ":").replace(",", ":") for one in communities)),
            )
        )
    return sorted(found)


def told(folder: Path) -> list[tuple[str, ...]]:
    """The same of the daemon's dumps, the last of each table."""
    found = []
    for file in sorted(folder.glob("*.mrt")):
        dump = read_table_dump(file.read_bytes(), file.name)
        for (peer, _), entries in dump.entries.items():
            if dump.peers[peer].number == 0:
                continue
            for prefix, number in zip(entries.prefixes, entries.attributes, strict=True):
                one = dump.attributes[number]
                path, med = " ".join(map(str, one.as_path)), "" if one.med is None else str(one.med)
                neighbor, hop = str(dump.peers[peer].address), str(one.next_hop)
                more = med, str(one.local_preference), " ".join(sorted(one.communities))
                found.append((str(prefix), neighbor, path, one.origin, hop, *more))
    return sorted(found)


UPDATES = """
mrtdump "updates.mrt";
"""
"""What it hears is written as it comes: the same sessions, one after the other."""


def heard(folder: Path) -> list[tuple[str, ...]]:
    """What stands after all updates that the daemon wrote down."""
    updates = read_updates((folder / "updates.mrt").read_bytes(), "updates.mrt")
    standing: dict[tuple[str, str], tuple[str, ...]] = {}
    for at in range(len(updates.announcements)):
        row = updates.announcements.row(at)
        neighbor = row.speaker.split()[1]
        if row.prefix is None:
            standing = {key: one for key, one in standing.items() if key[1] != neighbor}
        elif row.attributes is None:
            standing.pop((str(row.prefix), neighbor), None)
        else:
            one = row.attributes
            path, med = " ".join(map(str, one.as_path)), "" if one.med is None else str(one.med)
            more = med, str(one.local_preference), " ".join(sorted(one.communities))
            standing[str(row.prefix), neighbor] = (
                str(row.prefix),
                neighbor,
                path,
                one.origin,
                str(one.next_hop),
                *more,
            )
    return sorted(standing.values())


@pytest.mark.skipif(not (BIRD.exists() and shutil.which("birdc")), reason="there is no bird on this machine")
def test_what_a_daemon_hears_adds_up_to_its_tables(tmp_path):
    running = []
    hears = HEARS.replace("multihop; strict bind;", "multihop; strict bind; mrtdump { messages, states };")
    # What it prefers by a filter of its own is no part of what was said.
    hears = hears.replace("import filter { bgp_local_pref = 70; accept; };", "import all;").split("protocol mrt")[0]
    texts = {"says": SAYS, "more": SAYS_MORE, "hears": UPDATES + hears}
    try:
        for name, text in texts.items():
            (tmp_path / f"{name}.conf").write_text(text)
        for name in ("hears", "says", "more"):
            command = [str(BIRD), "-f", "-c", f"{name}.conf", "-s", f"{name}.ctl"]
            running.append(subprocess.Popen(command, cwd=tmp_path, stdout=subprocess.DEVNULL))
        assert until_same(tmp_path, 8) == 8, "the daemons have no sessions"
        # A prefix less, and one with other attributes.
        fewer = SAYS.replace("  route 198.18.2.0/23 blackhole { bgp_large_community.add((64540, 1, 2)); };\n", "")
        fewer = fewer.replace("bgp_community.add((64540, 7));", "bgp_community.add((64540, 8));")
        (tmp_path / "says.conf").write_text(fewer)
        subprocess.run(["birdc", "-s", str(tmp_path / "says.ctl"), "configure"], check=True, stdout=subprocess.DEVNULL)
        assert until_same(tmp_path, 7) == 7
        assert any("64540:8" in one[-1] for one in heard(tmp_path))
        # A neighbour that ends says all of it for nothing.
        running[2].terminate()
        running[2].wait(10)
        assert until_same(tmp_path, 4) == 4
    finally:
        for one in running:
            one.terminate()
            one.wait(10)


def until_same(folder: Path, count: int) -> int:
    """Wait until the daemon's table has so many paths, and what it heard is the same; how many it has then."""
    until = time.monotonic() + 60
    while time.monotonic() < until:
        time.sleep(0.5)
        try:
            table = shown(folder)
            if len(table) == count and heard(folder) == table:
                return count
        except (LoadError, OSError, subprocess.CalledProcessError):
            continue
    assert heard(folder) == shown(folder)
    return len(shown(folder))


@pytest.mark.skipif(not (BIRD.exists() and shutil.which("birdc")), reason="there is no bird on this machine")
def test_a_daemons_dumps_are_its_tables(tmp_path):
    running = []
    try:
        for name, text in (("says", SAYS), ("more", SAYS_MORE), ("hears", HEARS.replace("FOLDER", str(tmp_path)))):
            (tmp_path / f"{name}.conf").write_text(text)
            command = [str(BIRD), "-f", "-c", f"{name}.conf", "-s", f"{name}.ctl"]
            running.append(subprocess.Popen(command, cwd=tmp_path, stdout=subprocess.DEVNULL))
        until = time.monotonic() + 60
        while time.monotonic() < until:
            time.sleep(1)
            if len(list(tmp_path.glob("*.mrt"))) == 2 and len(told(tmp_path)) == 8:
                break
        expected = shown(tmp_path)
        assert len(expected) == 8, "the daemons have no sessions"
        assert told(tmp_path) == expected
    finally:
        for one in running:
            one.terminate()
            one.wait(10)
