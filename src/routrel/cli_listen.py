"""``routrel listen``: routers tell what their BGP neighbours say, and it is kept as files of updates."""

import argparse
import asyncio
import contextlib
import os
import signal
import sys

import httpx

from routrel.cli_output import DONE, CallError
from routrel.listening.spool import Spool
from routrel.listening.station import Station

TOKEN = "ROUTREL_TOKEN"
"""The environment variable with the token by which files are sent on."""


def listen_command(options: argparse.Namespace) -> int:
    """Listen until it is stopped; files that are full are sent on where that is wanted."""
    address, _, port = options.bmp.rpartition(":")
    if not address or not port.isdigit() or not 0 <= int(port) < 1 << 16:
        raise CallError(f"{options.bmp!r} is no address to listen at; allowed: ADDRESS:PORT, like 127.0.0.1:11019")
    if options.every <= 0:
        raise CallError("--every is a number of seconds above 0")
    if options.to is not None and not os.environ.get(TOKEN):
        raise CallError(f"--to sends files by a token in the environment variable {TOKEN}: see routrel token")
    try:
        spool = Spool(options.folder)
        return asyncio.run(_listen(options, spool, address.strip("[]"), int(port)))
    except OSError as error:
        raise CallError(f"this cannot be listened to: {error.strerror or error}") from None


async def _listen(options: argparse.Namespace, spool: Spool, address: str, port: int) -> int:
    station = Station(spool, _say)
    server = await station.serve(address, port)
    host, at = server.sockets[0].getsockname()[:2]
    _say(f"listening at {host} port {at}, files go to {options.folder}")
    stopped = asyncio.Event()
    for what in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(what, stopped.set)
    writing = asyncio.create_task(station.write_on())
    while not stopped.is_set() and not writing.done():
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(stopped.wait(), options.every)
        if not stopped.is_set():
            await station.turn()
            await _pass_on(options, spool)
    server.close()
    await station.end()
    writing.cancel()
    await station.turn()
    await _pass_on(options, spool)
    _say(f"stopped, {spool.stored:,} records stored")
    if writing.done() and not writing.cancelled() and (error := writing.exception()) is not None:
        raise error
    return DONE


async def _pass_on(options: argparse.Namespace, spool: Spool) -> None:
    """Send files that are closed; what cannot be sent now is sent the next time."""
    if options.to is None:
        return
    async with httpx.AsyncClient(headers={"Authorization": f"Token {os.environ[TOKEN]}"}, timeout=60) as client:
        for path in spool.closed():
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
