"""Captures over SSH from Linux routers: the commands of docs/captures.md, their output as it is."""

import asyncio
import json
import shlex
from typing import Any

import asyncssh

from routrel.collecting.answers import MOST_BYTES, Answer, UnreachableError
from routrel.collecting.inventory import Target

COMMANDS = {
    "addresses.json": "ip -j -d address show",
    "routes.json": "ip -j route show table all",
    "routes6.json": "ip -j -6 route show table all",
    "rules.json": "ip -j rule show",
    "rules6.json": "ip -j -6 rule show",
    "filters.json": "nft -j list ruleset",
    "netconf.json": "ip -j netconf show",
    "neighbors.json": "ip -j neighbor show",
    "lldp.json": "lldpctl -f json0",
}
FIRST = ("addresses.json", "routes.json")
SSH_PORT = 22
NOT_FOUND = 127
PROGRAMS = ("nft", "lldpctl")
"""Programs that a router need not have: without one its file is left out, which says that there is nothing of it."""

PART = 1 << 16


async def capture(target: Target) -> Answer:
    """The files of a device's capture; raises ``UnreachableError``."""
    options: dict[str, Any] = {"connect_timeout": target.seconds, "login_timeout": target.seconds}
    if target.user is not None:
        options["username"] = target.user
    if target.keys:
        options["client_keys"] = [str(key) for key in target.keys]
    if target.known_hosts is not None:
        options["known_hosts"] = str(target.known_hosts)
    try:
        async with asyncssh.connect(target.address, target.port or SSH_PORT, **options) as connection:
            return await _commands(connection, target)
    except asyncssh.HostKeyNotVerifiable:
        raise UnreachableError("its host key is not a known one") from None
    except asyncssh.PermissionDenied:
        raise UnreachableError("no key that it accepts is at hand") from None
    except asyncssh.KeyImportError as error:
        raise UnreachableError(f"a key cannot be read: {error}") from None
    except asyncssh.Error as error:
        raise UnreachableError(f"SSH failed: {error.reason}") from None
    except OSError as error:
        raise UnreachableError((error.strerror or str(error)).lower()) from None


async def _commands(connection: asyncssh.SSHClientConnection, target: Target) -> Answer:
    answer = Answer()
    for file, command in COMMANDS.items():
        program = command.split()[0]
        plain = f"sudo -n {command}" if target.sudo else command
        if program in PROGRAMS:
            plain = f"command -v {shlex.quote(program)} >/dev/null || exit {NOT_FOUND}; {plain}"
        status, output, complaint = await _output(connection, plain)
        if status == NOT_FOUND and program in PROGRAMS:
            continue
        if status != 0 or not output.strip():
            reason = complaint.strip().splitlines()[-1:] or [f"the command ended with status {status}"]
            if file in FIRST:
                raise UnreachableError(f"{command!r} failed: {reason[0]}")
            answer.missing[file] = reason[0]
            continue
        answer.files[file] = neighbors_of(output) if file == "lldp.json" else output
    return answer


async def _output(connection: asyncssh.SSHClientConnection, command: str) -> tuple[int | None, bytes, str]:
    """Exit status, output and complaint of a command; raises ``UnreachableError`` where it says too much."""
    async with connection.create_process(command, encoding=None) as process:
        output, complaint = await asyncio.gather(_bounded(process.stdout, command), _bounded(process.stderr, command))
        done = await process.wait()
        return done.exit_status, output, complaint.decode(errors="replace")


async def _bounded(stream: asyncssh.SSHReader[bytes], command: str) -> bytes:
    read = bytearray()
    while part := await stream.read(PART):
        read += part
        if len(read) > MOST_BYTES:
            raise UnreachableError(f"{command!r} says more than {MOST_BYTES:,} bytes")
    return bytes(read)


def neighbors_of(output: bytes) -> bytes:
    """The neighbours that ``lldpctl -f json0`` lists, as ``lldp.json`` of a capture has them."""
    found = []
    try:
        for part in json.loads(output).get("lldp", []):
            for one in part.get("interface", []):
                system = one["chassis"][0].get("name", [{}])[0].get("value")
                port = one["port"][0]["id"][0]
                if system and port.get("type") in ("ifname", "local"):
                    neighbor = {"interface": one["name"], "device": system, "remote_interface": port["value"]}
                    found.append(neighbor)
    except (ValueError, KeyError, IndexError, TypeError, AttributeError):
        raise UnreachableError("what lldpctl says cannot be read") from None
    return json.dumps(found).encode()
