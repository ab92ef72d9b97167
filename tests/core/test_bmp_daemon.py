"""What a routing daemon tells by BMP of its neighbours, heard by the listener, held against the daemon's own table."""

import json
import shutil
import subprocess
from pathlib import Path

import pytest

from routrel.formats.mrt.updates import read_updates
from tests.core.test_bird_dumps import BIRD, SAYS
from tests.core.test_listening import started, wait_for  # noqa: F401

BGPD = Path("/usr/lib/frr/bgpd")
SPEAKS = """
router bgp 64500
 bgp router-id 10.9.0.2
 no bgp ebgp-requires-policy
 neighbor 127.0.0.1 remote-as 64500
 neighbor 127.0.0.1 port 18901
 neighbor 127.0.0.1 update-source 127.0.0.2
 bmp targets us
  bmp connect 127.0.0.1 port PORT min-retry 100 max-retry 200
  bmp monitor ipv4 unicast pre-policy
  bmp monitor ipv6 unicast pre-policy
 exit
 address-family ipv4 unicast
  neighbor 127.0.0.1 soft-reconfiguration inbound
 exit-address-family
 address-family ipv6 unicast
  neighbor 127.0.0.1 activate
  neighbor 127.0.0.1 soft-reconfiguration inbound
 exit-address-family
"""
# A daemon takes no next hop of the loopback network, on which its sessions are; of what external neighbours say this
# one tells with its own AS in front, so the session is internal.
TELLS = (
    SAYS.replace("1790", "1890")
    .replace("as 64510", "as 64500")
    .replace("ipv4 { export", "ipv4 { next hop address 192.0.2.1; export")
    .replace(
        "127.0.0.2 port 18902 as 64500; multihop;", "127.0.0.2 port 18902 as 64500; multihop; connect retry time 2;"
    )
)


def shown(folder: Path) -> list[tuple[str, ...]]:
    """The paths that the daemon shows: prefix, AS path, origin, next hop, MED."""
    found = []
    for family in ("ipv4", "ipv6"):
        asked = ["vtysh", "--vty_socket", str(folder / "vty"), "-c", f"show bgp {family} unicast json"]
        told = json.loads(subprocess.run(asked, capture_output=True, text=True, timeout=10, check=True).stdout)
        for prefix, paths in told.get("routes", {}).items():
            for one in paths:
                hops = {hop["ip"] for hop in one["nexthops"] if hop.get("scope") != "link-local"}
                origin = one["origin"].lower()
                found.append((prefix, one["path"], origin, hops.pop(), str(one.get("metric", ""))))
    return sorted(found)


def heard(folder: Path) -> list[tuple[str, ...]]:
    """What stands after all that the listener stored."""
    standing = dict[str, tuple[str, ...]]()
    for file in sorted(folder.glob("*.mrt")):
        if not file.stat().st_size:
            continue
        rows = read_updates(file.read_bytes(), file.name).announcements
        for row in map(rows.row, range(len(rows))):
            assert row.speaker.startswith("AS64500 127.0.0.1")
            if row.prefix is None:
                standing.clear()
            elif row.attributes is None:
                standing.pop(str(row.prefix), None)
            else:
                one = row.attributes
                med = "" if one.med is None else str(one.med)
                path = " ".join(map(str, one.as_path))
                standing[str(row.prefix)] = str(row.prefix), path, one.origin, str(one.next_hop), med
    return sorted(standing.values())


@pytest.mark.skipif(
    not (BGPD.exists() and shutil.which("vtysh") and BIRD.exists()), reason="there is no bgpd and bird on this machine"
)
def test_what_a_daemon_tells_by_bmp_adds_up_to_its_table(tmp_path, started):  # noqa: F811
    files = tmp_path / "files"
    _, port = started(files)
    (tmp_path / "says.conf").write_text(TELLS)
    (tmp_path / "bgpd.conf").write_text(SPEAKS.replace("PORT", str(port)))
    (tmp_path / "vty").mkdir()
    running = []

    def start(*command: str) -> subprocess.Popen:
        running.append(subprocess.Popen(command, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL))
        return running[-1]

    def is_same(count: int) -> bool:
        try:
            table = shown(tmp_path)
        except (subprocess.CalledProcessError, json.JSONDecodeError):
            return False  # it does not answer yet
        return len(table) == count and heard(files) == table

    try:
        says = start(str(BIRD), "-f", "-c", "says.conf", "-s", "says.ctl")
        own = ["-f", "bgpd.conf", "-i", "bgpd.pid", "--vty_socket", str(tmp_path / "vty")]
        start(str(BGPD), *own, "-Z", "-S", "-P", "0", "-p", "18902", "-l", "127.0.0.2", "-M", "bmp")
        wait_for(lambda: is_same(5), 60)
        assert ("198.18.2.0/23", "", "igp", "192.0.2.1", "30") in heard(files)
        (tmp_path / "says.conf").write_text(TELLS.replace("  route 0.0.0.0/0 blackhole; }", "}"))
        subprocess.run(["birdc", "-s", str(tmp_path / "says.ctl"), "configure"], check=True, stdout=subprocess.DEVNULL)
        wait_for(lambda: is_same(4), 30)
        says.terminate()
        wait_for(lambda: is_same(0), 30)
    finally:
        for one in running:
            one.terminate()
            one.wait(10)
