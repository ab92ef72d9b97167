"""Bounds on requests before Django sees them: how long a body may take, how large it is, how many at once.

Heads are bounded by the application server. A client that is slow costs a coroutine here, never a thread.
"""

import asyncio
import json
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

from site_settings.problems import CONTENT_TYPE, problem

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
Application = Callable[[Message, Receive, Send], Awaitable[None]]

BODY_BYTES = 48 * 1024 * 1024
BODY_SECONDS = 90.0
"""For a whole body."""

PAUSE_SECONDS = 15.0
"""Between two parts of it."""

AT_ONCE = 96
"""Requests that all web processes work on at once; more are told to come again. One whose body is not whole costs
nothing yet."""

WAITING_BYTES = 384 * 1024 * 1024
"""Of bodies that are not whole, all together."""


BUSY = "The server is busy; try again in a moment."


class _RefusedError(Exception):
    def __init__(self, status: int, detail: str):
        super().__init__(detail)
        self.status = status
        self.detail = detail


class Bounds:
    """An application that is asked only within bounds."""

    def __init__(
        self,
        application: Application,
        pause: float = PAUSE_SECONDS,
        whole: float = BODY_SECONDS,
        processes: int = 1,
    ):
        self.application = application
        self.pause = pause
        self.whole = whole
        self.at_once = max(1, AT_ONCE // processes)
        self.most_waiting_bytes = max(2 * BODY_BYTES, WAITING_BYTES // processes)
        self.under_way = 0
        self.waiting_bytes = 0

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        """An ASGI call."""
        if scope["type"] != "http":
            await self.application(scope, receive, send)
            return
        has_begun = False

        async def sending(message: Message) -> None:
            nonlocal has_begun
            has_begun = True
            await send(message)

        body = _Body(self, receive)
        try:
            await self.application(scope, body.receive, sending)
        except _RefusedError as refused:
            if not has_begun:
                await _answer(send, refused.status, refused.detail)
        finally:
            body.end()


class _Body:
    """One request's body: waited for within bounds, then counted as under way."""

    def __init__(self, bounds: Bounds, receive: Receive):
        self.bounds = bounds
        self._receive = receive
        self._deadline = asyncio.get_running_loop().time() + bounds.whole
        self._size = 0
        self._is_whole = False
        self._is_counted = False

    async def receive(self) -> Message:
        """The next part of the body; once it is whole, whatever comes."""
        if self._is_whole:
            return await self._receive()
        try:
            left = min(self.bounds.pause, self._deadline - asyncio.get_running_loop().time())
            message = await asyncio.wait_for(self._receive(), max(0.0, left))
        except TimeoutError:
            raise _RefusedError(408, "The request's body took too long to come.") from None
        part = len(message.get("body", b""))
        self._size += part
        self.bounds.waiting_bytes += part
        if self._size > BODY_BYTES:
            raise _RefusedError(413, f"The request is too large; allowed: {BODY_BYTES:,} bytes.")
        if self.bounds.waiting_bytes > self.bounds.most_waiting_bytes:
            raise _RefusedError(503, BUSY)
        if message["type"] != "http.request" or not message.get("more_body", False):
            self._become_whole()
        return message

    def _become_whole(self) -> None:
        self._is_whole = True
        self.bounds.waiting_bytes -= self._size
        if self.bounds.under_way >= self.bounds.at_once:
            raise _RefusedError(503, BUSY)
        self.bounds.under_way += 1
        self._is_counted = True

    def end(self) -> None:
        """The request is over."""
        self.bounds.under_way -= self._is_counted
        if not self._is_whole:
            self.bounds.waiting_bytes -= self._size


async def _answer(send: Send, status: int, detail: str) -> None:
    headers = [(b"content-type", CONTENT_TYPE.encode()), (b"connection", b"close")]
    if status == 503:
        headers.append((b"retry-after", b"2"))
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": json.dumps(problem(status, {"detail": detail})).encode()})
