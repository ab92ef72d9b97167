"""Messages of syslog (RFC 5424, 6587) as events, by rules."""

import asyncio
import json
import os
import signal
import socket
import subprocess
import sys
import time
from contextlib import suppress

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.formats.errors import LoadError
from routrel.formats.events_file import read_events
from routrel.listening.rules import read_rules
from routrel.listening.speaking import GarbageError
from routrel.listening.spool import Spool
from routrel.listening.station import Station
from routrel.listening.syslog import SyslogSpeaker, read_message
from tests.examples import examples

RULES = r"""
hosts: {gw-1: r1}
rules:
- match: 'Interface (?P<name>\S+) is (?:going )?down'
  app: linkd
  event: {down: interface, at: '{host}:{name}'}
- {match: 'Interface (?P<name>\S+) is up', event: {up: interface, at: '{host}:{name}'}}
- {match: 'cost of (?P<name>\S+) now (?P<cost>\d+)', event: {set: cost, at: '{host}:{name}', to: '{cost}'}}
- {match: 'neighbor (?P<peer>\S+) lost', event: {down: session, at: '{host} {peer}'}}
- {match: 'strange (?P<what>\w+)', event: {down: '{what}', at: '{host}'}}
"""
READ = read_rules(RULES.encode(), "rules.yaml")


def message(text: str, host: str = "gw-1.example", app: str = "linkd", at: str = "2026-11-20T03:12:44.25Z") -> bytes:
    return f"<134>1 {at} {host} {app} 77 - - {text}".encode()


def counted(one: bytes) -> bytes:
    return b"%d %s" % (len(one), one)


def heard(*data: bytes, limit: int = 1 << 20) -> tuple[list[dict], SyslogSpeaker]:
    """What is said of some bytes of one connection."""
    speaker = SyslogSpeaker(READ)

    async def play() -> list[dict]:
        reader = asyncio.StreamReader(limit=limit)
        reader.feed_data(b"".join(data))
        reader.feed_eof()
        return [json.loads(one) async for one in speaker.records(reader)]

    return asyncio.run(play()), speaker


def test_messages_of_both_framings_mean_what_the_first_rule_says():
    found, speaker = heard(
        counted(message("Interface e1 is going down, loss of light")),
        message("Interface e1 is up", host="r2") + b"\n",
        counted(message("cost of e1 now 40\nand more")),
        message("neighbor 192.0.2.1 lost") + b"\r\n",
        message("Interface e2 is up", app="other"),
    )
    assert [{key: one for key, one in event.items() if key not in ("time", "note")} for event in found] == [
        {"down": "interface", "at": "r1:e1"},
        {"up": "interface", "at": "r2:e1"},
        {"set": "cost", "at": "r1:e1", "to": 40},
        {"down": "session", "at": "r1 192.0.2.1"},
        {"up": "interface", "at": "r1:e2"},
    ]
    assert found[0]["time"] == "2026-11-20T03:12:44.250000Z"
    assert found[0]["note"] == "Interface e1 is going down, loss of light"
    assert speaker.name == "gw-1.example" and not speaker.left


def test_what_means_nothing_is_counted():
    _, speaker = heard(
        *(
            one + b"\n"
            for one in (
                message("hello"),
                message("Interface e1 is down", app="other"),
                b"<13>Nov 20 03:12:44 r1 linkd: of old",
                message("strange thing"),
            )
        )
    )
    assert dict(speaker.left) == {
        "that no rule knows": 2,
        "of another form than RFC 5424": 1,
        "that mean no event: this cannot be disabled": 1,
    }


def test_a_message_with_structured_data_and_one_without_a_time():
    """RFC 5424 section 6.5."""
    data = b'<165>1 2026-11-20T03:12:44Z h a - - [id a="x\\]y" b="c"][z] \xef\xbb\xbfInterface e1 is up'
    assert read_message(data).text == "Interface e1 is up"
    assert read_message(b"<1>1 - - - - - -").moment is None
    for none in (b"", b"<1>2 - - - - - - x", b"1 - - - - - - x", b"<1>1 - - - - - x", b'<1>1 - - - - - [id a="x] y'):
        assert read_message(none) is None


@pytest.mark.parametrize(
    "garbage",
    [b"GET / HTTP/1.1\r\n", b"12x34", b"9999999 <1>1", b"70000 <1>1", b"50 <1>1 short", b"<" + b"x" * 5000],
)
def test_what_is_no_syslog_is_cut_off(garbage):
    with pytest.raises(GarbageError):
        heard(counted(message("Interface e1 is up")), garbage, limit=2000)


@given(st.binary(max_size=200), st.integers(0, 60))
@settings(max_examples=examples(300), deadline=None)
def test_whatever_bytes_come_nothing_breaks(noise, at):
    one = message("Interface e1 is up")
    data = one[:at] + noise + one[at:] + b"\n"
    read_message(data)
    with suppress(GarbageError):
        heard(data)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("[]", "a mapping is expected here"),
        ("rules: []", "there are no rules"),
        ("rule: []", "this is no part of rules"),
        ("rules: [5]", "a rule is a mapping"),
        ("rules: [{match: x}]", "lacks the key 'event'"),
        ("rules: [{match: '(', event: {}}]", "this is no regular expression"),
        (r"rules: [{match: '(x)\1', event: {}}]", "this is no regular expression"),
        ("rules: [{match: x, event: {down: link, at: '{name}'}}]", "nothing is found under this name"),
        ("rules: [{match: x, event: {down: link, at: a, time: 3}}]", "an event without its time"),
        ("rules: [{match: x, event: {}, colour: red}]", "unknown key of a rule"),
    ],
)
def test_rules_that_cannot_be_say_why_in_their_place(text, message):
    with pytest.raises(LoadError) as error:
        read_rules(text.encode(), "rules.yaml")
    assert message in str(error.value) and "rules.yaml:1:" in str(error.value)


def test_the_command_keeps_events_and_hears_both_kinds(tmp_path, request):
    (tmp_path / "rules.yaml").write_text(RULES)
    command = [sys.executable, "-m", "routrel", "listen", str(tmp_path / "f"), "--every", "0.2"]
    command += ["--bmp", "127.0.0.1:0", "--syslog", "127.0.0.1:0", "--rules", str(tmp_path / "rules.yaml")]
    running = subprocess.Popen(command, stderr=subprocess.PIPE, text=True, env=os.environ)
    request.addfinalizer(running.kill)
    lines = [running.stderr.readline() for _ in range(2)]
    assert "(bmp)" in lines[0] and "(syslog)" in lines[1]
    with socket.create_connection(("127.0.0.1", int(lines[1].split("port ")[1].split(" ")[0]))) as connection:
        connection.sendall(message("Interface e1 is down") + b"\n")
        until = time.monotonic() + 20
        while not list((tmp_path / "f").glob("*.jsonl")):
            assert time.monotonic() < until
            time.sleep(0.05)
        time.sleep(0.3)
    running.send_signal(signal.SIGTERM)
    assert running.wait(20) == 0
    (file,) = (tmp_path / "f").glob("*.jsonl")
    ((event,), _) = read_events(file.read_bytes(), file.name)
    assert (event.change.verb, event.change.at) == ("disable", "r1:e1")
    without = subprocess.run(command[:-2], capture_output=True, text=True, timeout=30, check=False)
    assert without.returncode == 2 and "--syslog needs --rules" in without.stderr


def test_many_messages_at_once_lose_nothing(tmp_path):
    async def speak(port: int, number: int) -> None:
        _, writer = await asyncio.open_connection("127.0.0.1", port)
        data = b"".join(counted(message(f"Interface e{at} is up", host=f"d{number}")) for at in range(100))
        for at in range(0, len(data), 333):
            writer.write(data[at : at + 333])
            await writer.drain()
        writer.close()

    async def play() -> int:
        told = list[str]()
        station = Station(Spool(tmp_path, "syslog", ".jsonl"), told.append, lambda: SyslogSpeaker(READ))
        server = await station.serve("127.0.0.1", 0)
        port = server.sockets[0].getsockname()[1]
        await asyncio.gather(*(speak(port, number) for number in range(20)))
        while sum("ended" in one for one in told) < 20:
            await asyncio.sleep(0.02)
        server.close()
        await station.end()
        return station.spool.stored

    assert asyncio.run(play()) == 2000
    (file,) = tmp_path.glob("*.jsonl")
    events, _ = read_events(file.read_bytes(), file.name)
    assert len({one.change.at for one in events}) == 2000
