"""Open models over NETCONF (RFC 6241) by SSH (RFC 6242): what a ``get`` of each tree answers, in one document."""

import asyncio
import logging
import os
from functools import partial
from typing import Any

import asyncssh
from lxml import etree
from ncclient import manager
from ncclient.operations import OperationError
from ncclient.transport.errors import AuthenticationError, SSHError, SSHUnknownHostError, TransportError

from routrel.collecting.answers import MOST_BYTES, Answer, UnreachableError
from routrel.collecting.inventory import Target
from routrel.formats.models.xml_statements import NETCONF, namespace_of

# What goes wrong is said in our words: the libraries' own reports go only where somebody asked for logs.
for library in ("ncclient", "paramiko"):
    logging.getLogger(library).addHandler(logging.NullHandler())

NETCONF_PORT = 830
DATA = "data.xml"


async def data(target: Target) -> Answer:
    """What a device answers to ``get``; raises ``UnreachableError``."""
    port = target.port or NETCONF_PORT
    known = _known_key(target, port)
    text = await asyncio.to_thread(partial(_get, target, port, known))
    if len(text) > MOST_BYTES:
        raise UnreachableError(f"it says more than {MOST_BYTES:,} bytes")
    return Answer({DATA: text})


def _known_key(target: Target, port: int) -> str | None:
    """The host key that a file of known hosts has for the device; None leaves it to the user's own file."""
    if target.known_hosts is None:
        return None
    try:
        found, *_ = asyncssh.match_known_hosts(str(target.known_hosts), target.address, "", port)
    except OSError as error:
        raise UnreachableError((error.strerror or str(error)).lower()) from None
    if not found:
        raise UnreachableError("its host key is not a known one")
    return found[0].export_public_key().decode().split()[1]


def _get(target: Target, port: int, known: str | None) -> bytes:
    """One session: connect, get, close. The library blocks, so each has a thread of its own."""
    access: dict[str, Any] = {"timeout": target.seconds, "hostkey_verify": True, "hostkey_b64": known}
    if target.user is not None:
        access["username"] = target.user
    if target.password_from is not None:
        access["password"] = os.environ.get(target.password_from)
        if not access["password"]:
            raise UnreachableError(f"the environment variable {target.password_from} is not set")
    if target.keys:
        access |= {
            "key_filename": [str(key) for key in target.keys],
            "allow_agent": False,
            "look_for_keys": False,
        }
    wanted = etree.Element(f"{{{NETCONF}}}filter", type="subtree")
    wanted.extend(map(_selected, target.trees))
    try:
        with manager.connect(host=target.address, port=port, **access) as session:
            session.timeout = target.seconds
            reply = session.get(filter=wanted)
            return bytes(etree.tostring(reply.data_ele, encoding="utf-8", xml_declaration=True))
    except SSHUnknownHostError:
        raise UnreachableError("its host key is not a known one") from None
    except AuthenticationError:
        raise UnreachableError("no key or password that it accepts is at hand") from None
    except (OperationError, TransportError, SSHError) as error:
        raise UnreachableError(
            f"NETCONF failed: {str(error).splitlines()[0] if str(error) else type(error).__name__}"
        ) from None
    except (OSError, EOFError) as error:
        raise UnreachableError(str(error).lower() or "the connection ended") from None


def _selected(tree: str) -> Any:
    """An element that selects a tree: a subtree filter (RFC 6241 section 6)."""
    module, _, name = tree.partition(":")
    return etree.Element(f"{{{namespace_of(module)}}}{name}")
