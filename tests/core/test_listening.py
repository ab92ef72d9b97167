"""Listening by BMP (RFC 7854): what speakers say becomes files of updates, and nothing that is stored is lost."""

import asyncio
import json
import os
import signal
import socket
import struct
import subprocess
import sys
import threading
import time
from contextlib import suppress
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.formats.mrt.updates import Updates, read_updates
from routrel.listening.bmp import COMMON, BmpSpeaker
from routrel.listening.speaking import GarbageError
from routrel.listening.spool import Spool
from routrel.listening.station import Station
from routrel.model.announcements import UNNUMBERED
from tests.core import bmp, dumps
from tests.core.test_updates import NET, OTHER, SAID, SIX, rows
from tests.examples import examples

SIX_SAID = dumps.attributes([64600], "2001:db8:9::1")


def spoken(*messages: bytes) -> tuple[Updates, BmpSpeaker]:
    """What messages of one speaker say."""
    speaker, records = BmpSpeaker(), b""
    for one in messages:
        _, length, kind = COMMON.unpack_from(one)
        assert length == len(one)
        records += speaker.records_of(kind, one[COMMON.size :], 1_795_000_999.25)
    return read_updates(records, "b.mrt"), speaker


def test_what_neighbors_say_of_both_families_is_a_file_of_updates():
    six = {"peer": "2001:db8:9::1"}
    found, speaker = spoken(
        bmp.initiation("edge"),
        bmp.peer_up(),
        bmp.route(dumps.update([NET, OTHER], SAID), time=dumps.TIME + 0.5),
        bmp.route(dumps.update(withdrawn=[OTHER])),
        bmp.peer_up(local="2001:db8:9::2", **six),
        bmp.route(dumps.update([SIX], SIX_SAID), **six),
        bmp.peer_down(),
    )
    assert speaker.name == "edge" and not found.unused
    assert rows(found) == [
        ("all", ""),
        (NET, "64600 64601"),
        (OTHER, "64600 64601"),
        (OTHER, ""),
        ("all", ""),
        (SIX, "64600"),
        ("all", ""),
    ]
    assert found.announcements.speakers == ["AS64600 192.0.2.1 to 192.0.2.2", "AS64600 2001:db8:9::1 to 2001:db8:9::2"]
    assert [(one.change.verb, one.change.at.split()[1]) for one in found.events] == [
        ("enable", "192.0.2.1"),
        ("enable", "2001:db8:9::1"),
        ("disable", "192.0.2.1"),
    ]
    assert found.announcements.row(1).moment.microsecond == 500_000


def test_several_paths_of_a_prefix_where_both_ends_agreed_on_them():
    """RFC 7911 section 4: it receives them, and the neighbour sends them."""
    paths = dumps.update([NET], SAID, path=5)
    for sent, heard, number in ((1, 2, 5), (3, 3, 5)):
        may = [struct.pack(">BBHBB", 69, 4, 1, 1, one) for one in (sent, heard)]
        found, _ = spoken(bmp.peer_up(sent=may[0], heard=may[1]), bmp.route(paths))
        assert found.announcements.row(1).path == number and rows(found)[1] == (NET, "64600 64601")
    may = [struct.pack(">BBHBB", 69, 4, 1, 1, one) for one in (2, 1)]
    found, _ = spoken(bmp.peer_up(sent=may[0], heard=may[1]), bmp.route(dumps.update([NET], SAID)))
    assert found.announcements.row(1).path == UNNUMBERED


def test_as_numbers_of_two_and_of_four_bytes():
    short = dumps.attribute(1, b"\0") + dumps.attribute(2, b"\2\1" + struct.pack(">H", 64600))
    short += dumps.attribute(3, dumps.address("192.0.2.1"))
    found, _ = spoken(bmp.peer_up(flags=0x20), bmp.route(dumps.update([NET], short), flags=0x20))
    assert rows(found)[1] == (NET, "64600")
    found, _ = spoken(bmp.peer_up(number=4_200_000_001), bmp.route(dumps.update([NET], SAID), number=4_200_000_001))
    assert found.announcements.speakers == ["AS4200000001 192.0.2.1 to 192.0.2.2"]


def test_what_is_no_neighbors_word_is_counted_and_left():
    after = [bmp.route(dumps.update([OTHER], SAID), **more) for more in ({"flags": 0x40}, {"kind": 3}, {"flags": 0x10})]
    counted = bmp.message(1, bmp.of_peer() + b"\0\0\0\0")
    found, speaker = spoken(bmp.peer_up(), bmp.route(dumps.update([NET], SAID)), *after, counted, bmp.message(5, b""))
    assert rows(found) == [("all", ""), (NET, "64600 64601")]
    assert dict(speaker.left) == {"of other tables than what neighbors say": 3, "statistics": 1}


def test_a_speaker_without_a_clock_says_it_now():
    found, _ = spoken(bmp.route(dumps.update([NET], SAID), time=0))
    assert found.announcements.row(0).moment.timestamp() == 1_795_000_999.25


@pytest.mark.parametrize(
    "garbage",
    [
        b"GET / HTTP/1.1\r\n\r\n",
        bmp.message(0, b"", version=1),
        bmp.message(9, b""),
        bmp.message(0, b"short"),
        bmp.message(0, bmp.of_peer() + b"no message"),
        bmp.message(2, bmp.of_peer()),
        bmp.message(3, bmp.of_peer() + bytes(60)),
        struct.pack(">BIB", 3, 5, 4),
        struct.pack(">BIB", 3, 1 << 31, 4),
        bmp.initiation()[:-1],
    ],
)
def test_a_speaker_that_sends_garbage_is_cut_off_with_a_note_and_others_go_on(tmp_path, garbage):
    told = list[str]()

    async def play() -> None:
        station = Station(Spool(tmp_path), told.append, BmpSpeaker)
        server = await station.serve("127.0.0.1", 0)
        port = server.sockets[0].getsockname()[1]
        good, bad = [await asyncio.open_connection("127.0.0.1", port) for _ in range(2)]
        bad[1].write(bmp.initiation() + bmp.route(dumps.update([OTHER], SAID)) + garbage)
        bad[1].write_eof()
        assert await asyncio.wait_for(bad[0].read(), 10) == b""
        good[1].write(bmp.route(dumps.update([NET], SAID)))
        good[1].close()
        await until(lambda: any("ended" in one for one in told))
        server.close()
        await station.end()

    asyncio.run(play())
    assert [one for one in told if "cut off, this cannot be read" in one]
    (file,) = tmp_path.glob("*.mrt")
    assert rows(read_updates(file.read_bytes(), file.name)) == [(OTHER, "64600 64601"), (NET, "64600 64601")]


async def until(is_so) -> None:
    for _ in range(500):
        if is_so():
            return
        await asyncio.sleep(0.02)
    raise AssertionError("it never was")


def test_many_speakers_at_once_lose_nothing(tmp_path):
    """Fifty speakers, in pieces as they come from a network."""
    count, each = 50, 200
    told = list[str]()

    async def speak(port: int, number: int) -> None:
        _, writer = await asyncio.open_connection("127.0.0.1", port)
        data = bmp.initiation(f"r{number}")
        for at in range(each):
            data += bmp.route(dumps.update([f"10.{number}.{at}.0/24"], SAID), number=64000 + number)
        for at in range(0, len(data), 777):
            writer.write(data[at : at + 777])
            await writer.drain()
        writer.close()

    async def play() -> None:
        station = Station(Spool(tmp_path), told.append, BmpSpeaker)
        server = await station.serve("127.0.0.1", 0)
        writing = asyncio.create_task(station.write_on())
        port = server.sockets[0].getsockname()[1]
        await asyncio.gather(*(speak(port, number) for number in range(count)))
        await until(lambda: sum("ended" in one for one in told) == count)
        server.close()
        await station.end()
        writing.cancel()
        assert station.spool.stored == count * each

    asyncio.run(play())
    (file,) = tmp_path.glob("*.mrt")
    found = {prefix for prefix, _ in rows(read_updates(file.read_bytes(), file.name))}
    assert found == {f"10.{number}.{at}.0/24" for number in range(count) for at in range(each)}


@given(st.data())
@settings(max_examples=examples(300), deadline=None)
def test_whatever_bytes_are_wrong_nothing_breaks(data):
    messages = [bmp.initiation(), bmp.peer_up(), bmp.route(dumps.update([NET], SAID)), bmp.peer_down()]
    speaker = BmpSpeaker()
    for one in messages:
        broken = bytearray(one[COMMON.size :])
        for _ in range(data.draw(st.integers(0, 3))):
            broken[data.draw(st.integers(0, len(broken) - 1))] = data.draw(st.integers(0, 255))
        cut = data.draw(st.integers(0, len(broken)))
        with suppress(GarbageError):
            speaker.records_of(COMMON.unpack_from(one)[2], bytes(broken[: cut or None]), 0.0)


# The command


@pytest.fixture
def started():
    """Starts listeners, and ends those that still run."""
    running = list[subprocess.Popen]()

    def start(folder: Path, *more: str, **environment: str) -> tuple[subprocess.Popen, int]:
        running.append(begun(folder, *more, **environment))
        line = running[-1].stderr.readline()
        assert "listening at 127.0.0.1 port " in line, line
        return running[-1], int(line.split("port ")[1].split()[0])

    yield start
    for one in running:
        one.kill()
        one.wait()


def begun(folder: Path, *more: str, **environment: str) -> subprocess.Popen:
    """A listener of the command line."""
    command = [sys.executable, "-m", "routrel", "listen", str(folder), "--bmp", "127.0.0.1:0", *more]
    return subprocess.Popen(command, stderr=subprocess.PIPE, text=True, env={**os.environ, **environment})


def speak(port: int, *messages: bytes) -> None:
    with socket.create_connection(("127.0.0.1", port)) as connection:
        connection.sendall(b"".join(messages))


def stored(folder: Path) -> set[str]:
    found = set()
    for file in folder.rglob("*.mrt"):
        if file.stat().st_size:  # one that was just made may have nothing in it yet
            found |= {prefix for prefix, _ in rows(read_updates(file.read_bytes(), file.name))}
    return found


def wait_for(is_so, seconds: float = 20) -> None:
    until_then = time.monotonic() + seconds
    while not is_so():
        assert time.monotonic() < until_then
        time.sleep(0.05)


def test_a_listener_that_is_killed_loses_nothing_that_was_stored(tmp_path, started):
    running, port = started(tmp_path)
    speak(port, bmp.initiation(), bmp.route(dumps.update([NET], SAID)))
    wait_for(lambda: NET in stored(tmp_path))
    running.send_signal(signal.SIGKILL)
    running.wait()
    running, port = started(tmp_path)
    with socket.create_connection(("127.0.0.1", port)) as connection:
        connection.sendall(bmp.initiation() + bmp.route(dumps.update([OTHER], SAID)) + bmp.initiation()[:7])
        wait_for(lambda: OTHER in stored(tmp_path))
        running.send_signal(signal.SIGTERM)
        assert running.wait(20) == 0
    said = running.stderr.read()
    assert "stopped, 1 records stored" in said and "Traceback" not in said and "cut off" not in said
    assert stored(tmp_path) == {NET, OTHER} and len(list(tmp_path.glob("*.mrt"))) == 2


def test_files_are_sent_on_and_those_that_cannot_be_are_sent_later(tmp_path, started):
    got, statuses = list[bytes](), [503]

    class Server(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            got.append(self.headers["Authorization"].encode() + self.rfile.read(int(self.headers["Content-Length"])))
            self.send_response(statuses.pop() if statuses else 201)
            self.end_headers()
            self.wfile.write(json.dumps({"count": 1}).encode())

        def log_message(self, *_: object) -> None:
            pass

    with HTTPServer(("127.0.0.1", 0), Server) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        url = f"http://127.0.0.1:{server.server_port}/api/networks/1/events"
        running, port = started(tmp_path, "--every", "0.3", "--to", url, ROUTREL_TOKEN="secret")
        speak(port, bmp.initiation(), bmp.route(dumps.update([NET], SAID)))
        wait_for(lambda: len(list(tmp_path.glob("sent/*.mrt"))) == 1)
        running.send_signal(signal.SIGINT)
        assert running.wait(20) == 0
        said = running.stderr.read()
        server.shutdown()
    assert "refuses it: 503" in said and "sent, 1 events" in said
    assert len(got) == 2 and all(one.startswith(b"Token secret") for one in got)


@pytest.mark.parametrize(
    ("more", "message"),
    [
        (("--bmp", "nowhere"), "is no address to listen at"),
        (("--bmp", "127.0.0.1:99999"), "is no address to listen at"),
        (("--bmp", "192.0.2.9:11019"), "this cannot be listened to"),
        (("--every", "0"), "--every is a number of seconds above 0"),
        (("--to", "http://127.0.0.1:1/x"), "ROUTREL_TOKEN"),
    ],
)
def test_a_call_that_cannot_be_carried_out_says_why(tmp_path, more, message):
    command = [sys.executable, "-m", "routrel", "listen", str(tmp_path / "f"), *more]
    environment = {key: value for key, value in os.environ.items() if key != "ROUTREL_TOKEN"}
    done = subprocess.run(command, capture_output=True, text=True, env=environment, timeout=30, check=False)
    assert done.returncode == 2 and message in done.stderr and "Traceback" not in done.stderr
