"""Messages of syslog (RFC 5424) over TCP (RFC 6587) as events, by rules that say what a message means."""

import asyncio
import json
import re
import time
from collections import Counter
from collections.abc import AsyncIterator
from datetime import UTC, datetime
from typing import Any, NamedTuple

import re2

from routrel.formats.errors import LoadError
from routrel.formats.events_file import parse_time, read_events
from routrel.listening.speaking import GarbageError, whole
from routrel.model.times import rfc3339

MOST_BYTES = 65_536
"""Of one message."""
MOST_DIGITS = 6
NOTE = 300
"""Characters of a message that stand beside its event."""

_HEAD = re.compile(r"<(\d{1,3})>1 (\S+) (\S+) (\S+) \S+ \S+ ")
_DATA = re.compile(r'-|(?:\[[^ =\]"]++(?: [^ =\]"]++="(?:[^"\\\]]++|\\.)*+")*+\])++')


class Rule(NamedTuple):
    """``pattern`` is searched in messages, of applications named ``app`` where that is not ''; ``event`` is what it
    means, its texts with ``{name}`` for what the pattern's groups found."""

    pattern: Any
    app: str
    event: dict[str, Any]


class Rules(NamedTuple):
    """In order: the first that is found counts. ``hosts`` are devices by the names that messages come under."""

    rules: tuple[Rule, ...]
    hosts: dict[str, str]


class Message(NamedTuple):
    """A message of RFC 5424; ``moment`` None where it says none."""

    moment: datetime | None
    host: str
    app: str
    text: str


def read_message(data: bytes) -> Message | None:
    """A message; None where it is none of RFC 5424."""
    text = data.decode("utf-8", "replace")
    head = _HEAD.match(text)
    behind = None if head is None else _DATA.match(text, head.end())
    if head is None or behind is None:
        return None
    said = text[behind.end() :].removeprefix(" ").removeprefix("\ufeff").strip()
    return Message(parse_time(head[2]), "" if head[3] == "-" else head[3], head[4], said)


def event_of(message: Message, rules: Rules, now: float) -> str | None:
    """The event that a message means, as a line of a file; None where it means none. Raises ``LoadError``."""
    for rule in rules.rules:
        if rule.app and rule.app != message.app:
            continue
        found = rule.pattern.search(message.text)
        if found is None:
            continue
        host = rules.hosts.get(message.host) or rules.hosts.get(message.host.partition(".")[0])
        named = {"host": host or message.host.partition(".")[0], **{k: v or "" for k, v in found.groupdict().items()}}
        moment = message.moment or datetime.fromtimestamp(now, UTC)
        line = json.dumps({"time": rfc3339(moment), **_filled(rule.event, named), "note": message.text[:NOTE]})
        read_events(line.encode(), "message")
        return line
    return None


def _filled(value: Any, named: dict[str, str]) -> Any:
    """A value of a rule with what was found in its texts; a text that is one name alone may be a number."""
    if isinstance(value, dict):
        return {key: _filled(one, named) for key, one in value.items()}
    if isinstance(value, list):
        return [_filled(one, named) for one in value]
    if not isinstance(value, str):
        return value
    text = re.sub(r"\{([A-Za-z_]\w*)\}", lambda one: named.get(one[1], one[0]), value)
    return int(text) if value.startswith("{") and text.isascii() and text.isdigit() and len(text) < 12 else text


class SyslogSpeaker:
    """A speaker of syslog: the events that its messages mean."""

    def __init__(self, rules: Rules):
        self.name = ""
        self.left: Counter[str] = Counter()
        self.rules = rules

    async def records(self, reader: asyncio.StreamReader) -> AsyncIterator[bytes]:
        """Events until it ends; raises ``GarbageError``."""
        async for data in _messages(reader):
            message = read_message(data)
            if message is None:
                self.left["of another form than RFC 5424"] += 1
                continue
            self.name = message.host or self.name
            try:
                line = event_of(message, self.rules, time.time())
            except LoadError as error:
                self.left[f"that mean no event: {error.errors[0].message}"] += 1
                continue
            if line is None:
                self.left["that no rule knows"] += 1
            else:
                yield f"{line}\n".encode()


async def _messages(reader: asyncio.StreamReader) -> AsyncIterator[bytes]:
    """Each message, framed by its length or by a line's end, as the first byte tells (RFC 6587 section 3.4)."""
    while first := await whole(reader, 1):
        if first.isdigit() and first != b"0":
            digits = first
            while (one := await whole(reader, 1)).isdigit() and len(digits) < MOST_DIGITS:
                digits += one
            if one != b" " or int(digits) > MOST_BYTES:
                raise GarbageError(f"a message of {digits.decode()}{one.decode('latin-1')} bytes")
            data = await whole(reader, int(digits))
            if len(data) < int(digits):
                raise GarbageError("it ends inside a message")
            yield data
        elif first == b"<":
            try:
                yield first + await reader.readuntil(b"\n")
            except asyncio.IncompleteReadError as error:
                yield first + error.partial
            except asyncio.LimitOverrunError:
                raise GarbageError("a message without an end") from None
        elif first not in b"\r\n\0":
            raise GarbageError(f"a message that begins with {first!r}")


def compiled(expression: str) -> Any:
    """An expression of a rule; raises ``ValueError`` with the reason where it is none."""
    options = re2.Options()
    options.log_errors = False
    options.max_mem = 1 << 20
    try:
        return re2.compile(expression, options)
    except re2.error as error:
        reason = error.args[0]
        raise ValueError(reason.decode() if isinstance(reason, bytes) else str(reason)) from None
