"""Bounds on requests before Django sees them: how long a body may take, how large it is, how many at once.

Heads are bounded by the application server. A client that is slow costs a coroutine here, never a thread.
"""

import asyncio
import json
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

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
"""Requests that are worked on at once; more are told to come again."""


class _RefusedError(Exception):
    def __init__(self, status: int, detail: str):
        super().__init__(detail)
        self.status = status
        self.detail = detail


class Bounds:
    """An application that is asked only within bounds."""

    def __init__(self, application: Application, pause: float = PAUSE_SECONDS, whole: float = BODY_SECONDS):
        self.application = application
        self.pause = pause
        self.whole = whole
        self.under_way = 0

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

        if self.under_way >= AT_ONCE:
            await _answer(send, 503, "The server is busy; try again in a moment.")
            return
        self.under_way += 1
        try:
            await self.application(scope, self._bounded(receive), sending)
        except _RefusedError as refused:
            if not has_begun:
                await _answer(send, refused.status, refused.detail)
        finally:
            self.under_way -= 1

    def _bounded(self, receive: Receive) -> Receive:
        loop = asyncio.get_running_loop()
        deadline = loop.time() + self.whole
        size, is_whole = 0, False

        async def bounded() -> Message:
            nonlocal size, is_whole
            if is_whole:
                return await receive()
            try:
                left = min(self.pause, deadline - loop.time())
                message = await asyncio.wait_for(receive(), max(0.0, left))
            except TimeoutError:
                raise _RefusedError(408, "The request's body took too long to come.") from None
            size += len(message.get("body", b""))
            if size > BODY_BYTES:
                raise _RefusedError(413, f"The request is too large; allowed: {BODY_BYTES:,} bytes.")
            is_whole = message["type"] != "http.request" or not message.get("more_body", False)
            return message

        return bounded


async def _answer(send: Send, status: int, detail: str) -> None:
    headers = [(b"content-type", b"application/json"), (b"connection", b"close")]
    if status == 503:
        headers.append((b"retry-after", b"2"))
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": json.dumps({"detail": detail}).encode()})
