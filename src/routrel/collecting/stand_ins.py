"""Devices that are none: each plays what a network's folder says of it, over SSH or RESTCONF, on loopback alone.

For trying the way in without a network, and for tests. A device known by a capture is played over SSH (its name is the
user's, all at one port); any other over RESTCONF, by the documents that ``routrel models`` would write of it.
"""

import asyncio
import json
import re
import threading
from collections.abc import Mapping
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import asyncssh
import yaml

from routrel.collecting.ssh import COMMANDS, NOT_FOUND, PROGRAMS
from routrel.formats.models.writing_xml import xml_document
from routrel.formats.models.xml_statements import NETCONF
from routrel.model.network import Network

LOOPBACK = "127.0.0.1"
BASE = "urn:ietf:params:netconf:base:1.0"
END = "]]>]]>"
"""Ends a message before both ends have agreed on chunks (RFC 6242 section 4.3)."""


class ManyAtOnce(ThreadingHTTPServer):
    """A server that many devices' worth of clients may call in one moment."""

    daemon_threads = True
    request_queue_size = 512


class RestconfStandIns:
    """A server of documents by device: ``/NAME/restconf/data/MODULE:TREE``; a context that closes it."""

    def __init__(self, documents: Mapping[str, Mapping[str, object]]):
        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                parts = self.path.split("/")
                document = documents.get(parts[1]) if len(parts) == 5 and parts[2:4] == ["restconf", "data"] else None
                found = document.get(parts[4]) if document is not None else None
                text = b"" if found is None else json.dumps({parts[4]: found}).encode()
                self.send_response(404 if found is None else 200)
                self.send_header("Content-Type", "application/yang-data+json")
                self.send_header("Content-Length", str(len(text)))
                self.end_headers()
                self.wfile.write(text)

            def log_message(self, *_: object) -> None:
                pass

        self.server = ManyAtOnce((LOOPBACK, 0), Handler)
        self.thread = threading.Thread(target=self.server.serve_forever, daemon=True)

    def url(self, device: str) -> str:
        return f"http://{LOOPBACK}:{self.server.server_port}/{device}/restconf"

    def __enter__(self) -> "RestconfStandIns":
        self.thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.server.shutdown()
        self.server.server_close()


class SshStandIns:
    """A server of captures, and of documents over NETCONF, by device: the user's name is the device's.

    Its own host key and the one key it lets in are made anew; ``write_access`` puts what a client needs into files.
    """

    def __init__(
        self, captures: Mapping[str, Mapping[str, bytes]], documents: Mapping[str, Mapping[str, object]] | None = None
    ):
        self.captures = captures
        self.documents = documents or {}
        self.host_key = asyncssh.generate_private_key("ssh-ed25519")
        self.client_key = asyncssh.generate_private_key("ssh-ed25519")
        self.port = 0
        self.server: asyncssh.SSHAcceptor | None = None
        self.loop = asyncio.new_event_loop()
        self.thread = threading.Thread(target=self.loop.run_forever, daemon=True)

    async def _start(self) -> None:
        allowed = self.client_key.export_public_key().decode()
        server = await asyncssh.listen(
            LOOPBACK,
            0,
            server_host_keys=[self.host_key],
            authorized_client_keys=asyncssh.import_authorized_keys(allowed),
            process_factory=self._answer,
            encoding=None,
        )
        self.port = server.sockets[0].getsockname()[1]
        self.server = server

    async def _netconf(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        """Greetings, then an answer to every request until the session is closed (RFC 6241, framed as in RFC 6242)."""
        document = self.documents.get(process.get_extra_info("username"), {})
        hello = f"<capabilities><capability>{BASE}</capability></capabilities><session-id>1</session-id>"
        process.stdout.write(f'<hello xmlns="{NETCONF}">{hello}</hello>{END}'.encode())
        told = b""
        while part := await process.stdin.read(1 << 16):
            told += part
            while END.encode() in told:
                request, _, told = told.partition(END.encode())
                match = re.search(rb'message-id="([^"]*)"', request)
                if match is None:
                    continue
                is_get = b"close-session" not in request
                inner = xml_document(document) if is_get else "<ok/>"
                reply = f'<rpc-reply xmlns="{NETCONF}" message-id="{match[1].decode()}">{inner}</rpc-reply>{END}'
                process.stdout.write(reply.encode())
                if not is_get:
                    process.exit(0)
                    return

    async def _answer(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        if process.subsystem == "netconf":
            await self._netconf(process)
            return
        files = self.captures.get(process.get_extra_info("username"), {})
        asked = (process.command or "").rpartition("; ")[2].removeprefix("sudo -n ")
        file = next((file for file, command in COMMANDS.items() if command == asked), None)
        if file is not None and file in files:
            process.stdout.write(_heard(files[file]) if file == "lldp.json" else files[file])
            process.exit(0)
        elif file is not None and asked.split()[0] not in PROGRAMS:
            process.stdout.write(b"[]")
            process.exit(0)
        else:
            process.stderr.write(b"there is no such command\n")
            process.exit(NOT_FOUND)

    def write_access(self, folder: Path) -> None:
        """The client's key and the known host, as ``key`` and ``known_hosts``."""
        self.client_key.write_private_key(folder / "key")
        (folder / "key").chmod(0o600)
        public = self.host_key.export_public_key().decode().strip()
        (folder / "known_hosts").write_text(f"[{LOOPBACK}]:{self.port} {public}\n")

    def __enter__(self) -> "SshStandIns":
        self.thread.start()
        asyncio.run_coroutine_threadsafe(self._start(), self.loop).result(30)
        return self

    def __exit__(self, *_: object) -> None:
        if self.server is not None:
            self.loop.call_soon_threadsafe(self.server.close)
        self.loop.call_soon_threadsafe(self.loop.stop)
        self.thread.join(10)


def _heard(neighbors: bytes) -> bytes:
    """Neighbours of a capture as ``lldpctl -f json0`` lists them."""
    listed = [
        {
            "name": one["interface"],
            "chassis": [{"name": [{"value": one["device"]}]}],
            "port": [{"id": [{"type": "ifname", "value": one["remote_interface"]}]}],
        }
        for one in json.loads(neighbors)
    ]
    return json.dumps({"lldp": [{"interface": listed}]}).encode()


def lldp_document(network: Network, device: str) -> dict[str, object]:
    """What a device hears of its neighbours by a network's links, as openconfig-lldp has it."""
    heard: dict[str, list[dict[str, object]]] = {}
    for link in network.links:
        for near in link.ends:
            for far in link.ends:
                if near.device == device and far != near:
                    state = {"system-name": far.device, "port-id": far.interface}
                    heard.setdefault(near.interface, []).append({"id": str(far), "state": state})
    interfaces = [{"name": name, "neighbors": {"neighbor": neighbors}} for name, neighbors in heard.items()]
    return {"interfaces": {"interface": interfaces}}


@dataclass(frozen=True, slots=True)
class Played:
    """What stand-ins play: captures over SSH, documents over RESTCONF."""

    captures: Mapping[str, Mapping[str, bytes]]
    documents: Mapping[str, Mapping[str, object]]


def write_inventory(folder: Path, name: str, ssh: SshStandIns, restconf: RestconfStandIns, played: Played) -> Path:
    """The inventory of stand-ins that run, with what access to them needs; where it is."""
    folder.mkdir(parents=True, exist_ok=True)
    devices: dict[str, dict[str, object]] = {
        device: {"over": "ssh", "address": LOOPBACK, "port": ssh.port, "user": device} for device in played.captures
    }
    devices |= {device: {"over": "restconf", "url": restconf.url(device)} for device in played.documents}
    inventory: dict[str, object] = {"inventory": 1, "name": name, "devices": devices}
    if played.captures:
        ssh.write_access(folder)
        inventory["defaults"] = {"keys": ["key"], "known_hosts": "known_hosts"}
    file = folder / "inventory.yaml"
    file.write_text(yaml.safe_dump(inventory, sort_keys=False))
    return file
