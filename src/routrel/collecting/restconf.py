"""Open models over RESTCONF (RFC 8040): each tree that a reader knows, as the device answers it."""

import os
import ssl
from functools import cache
from pathlib import Path

import httpx

from routrel.collecting.answers import MOST_BYTES, Answer, UnreachableError
from routrel.collecting.inventory import Target

JSON = "application/yang-data+json"
ABSENT = (400, 404, 405)
"""A tree that a device does not have: RFC 8040 says 404; some say that its name is no resource of theirs."""


async def documents(target: Target) -> Answer:
    """The documents of a device, one for each tree it has; raises ``UnreachableError``."""
    headers, auth = {"Accept": JSON}, None
    if target.token_from is not None:
        headers["Authorization"] = f"Bearer {_secret(target.token_from)}"
    elif target.password_from is not None:
        auth = httpx.BasicAuth(target.user or "", _secret(target.password_from))
    answer = Answer()
    try:
        trusted = _trusted(target.authorities) if target.url.startswith("https") else False
        async with httpx.AsyncClient(verify=trusted, auth=auth, headers=headers, timeout=target.seconds) as client:
            for tree in target.trees:
                text = await _tree(client, f"{target.url.rstrip('/')}/data/{tree}", tree)
                if text is not None:
                    answer.files[f"{tree.replace(':', '.')}.json"] = text
    except httpx.TimeoutException:
        raise UnreachableError(f"no answer within {target.seconds} s") from None
    except httpx.HTTPError as error:
        raise UnreachableError(str(error).lower() or type(error).__name__) from None
    except (OSError, ssl.SSLError) as error:
        raise UnreachableError(str(error).lower()) from None
    if not answer.files:
        raise UnreachableError("it has none of the trees that are asked for")
    return answer


@cache
def _trusted(authorities: Path | None) -> ssl.SSLContext:
    """Whose certificates are believed: the system's authorities, or those of a file."""
    return ssl.create_default_context(cafile=authorities)


def _secret(name: str) -> str:
    value = os.environ.get(name)
    if not value:
        raise UnreachableError(f"the environment variable {name} is not set")
    return value


async def _tree(client: httpx.AsyncClient, url: str, tree: str) -> bytes | None:
    """A tree's document; None where the device has none. Redirects are not followed: a secret goes to one host."""
    async with client.stream("GET", url) as response:
        if response.status_code in ABSENT:
            return None
        if response.status_code in (401, 403):
            raise UnreachableError(f"it does not let us read (status {response.status_code})")
        if response.status_code == 204:
            return None
        if response.status_code != 200:
            raise UnreachableError(f"it answers {tree} with status {response.status_code}")
        read = bytearray()
        async for part in response.aiter_bytes():
            read += part
            if len(read) > MOST_BYTES:
                raise UnreachableError(f"{tree} is more than {MOST_BYTES:,} bytes")
        return bytes(read)
