"""``routrel listen``: devices tell what happens, and it is kept as files of updates and of events."""

import argparse
import asyncio
import contextlib
import os
import signal
import sys
from collections.abc import Callable
from functools import partial
from pathlib import Path

import httpx

from routrel.cli_output import DONE, CallError, bytes_of
from routrel.listening.bmp import BmpSpeaker
from routrel.listening.rules import read_rules
from routrel.listening.speaking import Speaker
from routrel.listening.spool import Spool
from routrel.listening.station import Station
from routrel.listening.syslog import SyslogSpeaker

TOKEN = "ROUTREL_TOKEN"
"""The environment variable with the token by which files are sent on."""


def listen_command(options: argparse.Namespace) -> int:
    """Listen until it is stopped; files that are full are sent on where that is wanted."""
    if options.syslog is not None and options.rules is None:
        raise CallError("--syslog needs --rules FILE: which message means which event (docs/events.md)")
    if options.every <= 0:
        raise CallError("--every is a number of seconds above 0")
    if options.to is not None and not os.environ.get(TOKEN):
        raise CallError(f"--to sends files by a token in the environment variable {TOKEN}: see routrel token")
    asked = list[tuple[str, str, str, Callable[[], Speaker]]]()
    if options.bmp is not None or options.syslog is None:
        asked.append(("bmp", ".mrt", options.bmp or "127.0.0.1:11019", BmpSpeaker))
    stations = list[tuple[Station, str, int]]()
    if options.syslog is not None:
        rules = read_rules(bytes_of(options.rules), Path(options.rules).name)
        asked.append(("syslog", ".jsonl", options.syslog, partial(SyslogSpeaker, rules)))
    try:
        for kind, suffix, at, speaker in asked:
            stations.append((Station(Spool(options.folder, kind, suffix), _say, speaker), *address_of(at)))
        return asyncio.run(_listen(options, stations))
    except OSError as error:
        raise CallError(f"this cannot be listened to: {error.strerror or error}") from None


def address_of(text: str) -> tuple[str, int]:
    """An address and a port of TCP."""
    address, _, port = text.rpartition(":")
    if not address or not port.isdigit() or not 0 <= int(port) < 1 << 16:
        raise CallError(f"{text!r} is no address to listen at; allowed: ADDRESS:PORT, like 127.0.0.1:11019")
    return address.strip("[]"), int(port)


async def _listen(options: argparse.Namespace, stations: list[tuple[Station, str, int]]) -> int:
    stopped = asyncio.Event()
    for what in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(what, stopped.set)
    servers, writing = list[asyncio.Server](), list[asyncio.Task[None]]()
    for station, address, port in stations:
        servers.append(await station.serve(address, port))
        writing.append(asyncio.create_task(station.write_on()))
        host, at = servers[-1].sockets[0].getsockname()[:2]
        _say(f"listening at {host} port {at} ({station.spool.kind}), files go to {options.folder}")
    while not stopped.is_set() and not any(one.done() for one in writing):
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(stopped.wait(), options.every)
        if not stopped.is_set():
            for station, _, _ in stations:
                await station.turn()
            await _pass_on(options, stations)
    for (station, _, _), server, task in zip(stations, servers, writing, strict=True):
        server.close()
        await station.end()
        task.cancel()
        await station.turn()
    await _pass_on(options, stations)
    _say(f"stopped, {sum(station.spool.stored for station, _, _ in stations):,} records stored")
    for task in writing:
        if task.done() and not task.cancelled() and (error := task.exception()) is not None:
            raise error
    return DONE


async def _pass_on(options: argparse.Namespace, stations: list[tuple[Station, str, int]]) -> None:
    """Send files that are closed; what cannot be sent now is sent the next time."""
    if options.to is None:
        return
    async with httpx.AsyncClient(headers={"Authorization": f"Token {os.environ[TOKEN]}"}, timeout=60) as client:
        for spool, path in [(station.spool, path) for station, _, _ in stations for path in station.spool.closed()]:
            try:
                answer = await client.post(options.to, files={"file": (path.name, path.read_bytes())})
            except httpx.HTTPError as error:
                _say(f"{path.name} is not sent, {options.to} does not answer: {error}")
                return
            if answer.status_code != httpx.codes.CREATED:
                _say(f"{path.name} is not sent, {options.to} refuses it: {answer.status_code} {answer.text[:200]}")
                return
            spool.sent(path)
            _say(f"{path.name} sent, {answer.json()['count']:,} events")


def _say(text: str) -> None:
    print(f"routrel: {text}", file=sys.stderr, flush=True)
