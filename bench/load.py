"""A minute of many clients on a running server, while an upload of the worst accepted kind is solved.

``python -m bench.load ADDRESS TOKEN [--seconds N] [--clients N] [--kill PID]``: asks loopback only, ends by
itself, prints figures. Every answer to one question must be the same; nothing may be a 500.
The uploads come from a process of their own, so that writing millions of characters does not stand
in the way of the clients' clocks.
"""

import argparse
import contextlib
import json
import multiprocessing
import os
import queue
import signal
import threading
import time
import urllib.error
import urllib.parse
import urllib.request
from collections import Counter
from typing import Any

from bench.generator import Shape, document

QUESTIONS = (
    "walk?from=ot-tracking&to=bookings&service=tracking",
    "walk?from=ot-tracking&to=bw-core1",
    "contest?device=ot-core&prefix=10.40.201.0/24",
    "table?device=bw-core1",
    "words?q=ot",
)


class Load:
    """Clients and what they saw."""

    def __init__(self, address: str, token: str):
        if urllib.parse.urlsplit(address).hostname not in ("127.0.0.1", "localhost"):
            raise SystemExit("only a server on loopback is asked")
        self.address = address.rstrip("/")
        self.token = token
        self.statuses: Counter[int] = Counter()
        self.seconds: list[float] = []
        self.answers: dict[str, set[str]] = {}
        self.lock = threading.Lock()

    def call(self, method: str, path: str, data: dict[str, Any] | None = None) -> tuple[int, bytes]:
        body = None if data is None else json.dumps(data).encode()
        headers = {"Authorization": f"Token {self.token}", "Content-Type": "application/json"}
        request = urllib.request.Request(f"{self.address}{path}", body, headers, method=method)
        try:
            with urllib.request.urlopen(request, timeout=180) as answer:
                return answer.status, answer.read()
        except urllib.error.HTTPError as error:
            return error.code, error.read()
        except (urllib.error.URLError, ConnectionError, TimeoutError):
            return 0, b""

    def ask_until(self, end: float, base: str, number: int) -> None:
        while time.monotonic() < end:
            question = QUESTIONS[number % len(QUESTIONS)]
            number += 1
            start = time.monotonic()
            status, body = self.call("GET", f"{base}/{question}")
            took = time.monotonic() - start
            with self.lock:
                self.statuses[status] += 1
                if status == 200:
                    self.seconds.append(took)
                    self.answers.setdefault(question, set()).add(body.decode())
            if status != 200:
                time.sleep(0.2)

    def one_alone(self, end: float, base: str, found: list[float]) -> None:
        """One careful user beside the crowd: a question every half second."""
        while time.monotonic() < end:
            start = time.monotonic()
            if self.call("GET", f"{base}/{QUESTIONS[0]}")[0] == 200:
                found.append(time.monotonic() - start)
            time.sleep(0.5)


def upload(load: "Load", end: float, routers: int, done: "multiprocessing.Queue[tuple[int, float]]") -> None:
    """One upload after the other, no two the same."""
    text = json.dumps(document(Shape(routers, areas=20, prefixes=4000)))
    number = 0
    while time.monotonic() < end:
        number += 1
        start = time.monotonic()
        status, _ = load.call("POST", "/api/load-check", {"text": text + " " * number})
        done.put((status, time.monotonic() - start))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("address")
    parser.add_argument("token")
    parser.add_argument("--seconds", type=float, default=60)
    parser.add_argument("--clients", type=int, default=50, help="0: only the one careful user")
    parser.add_argument("--kill", type=int, default=0, help="a process to end with SIGKILL once, half-way")
    parser.add_argument("--routers", type=int, default=4000, help="the size of the network that is uploaded")
    options = parser.parse_args()
    load = Load(options.address, options.token)
    networks = json.loads(load.call("GET", "/api/networks")[1])["results"]
    demo = next(one for one in networks if one["name"] == "Saltmarsh Ferries")
    base = f"/api/networks/{demo['id']}/revisions/{demo['latest']['number']}"
    load.call("GET", f"{base}/map")
    end = time.monotonic() + options.seconds
    clients = [threading.Thread(target=load.ask_until, args=(end, base, number)) for number in range(options.clients)]
    alone: list[float] = []
    clients.append(threading.Thread(target=load.one_alone, args=(end, base, alone)))
    uploads: multiprocessing.Queue[tuple[int, float]] = multiprocessing.Queue()
    uploader = multiprocessing.Process(target=upload, args=(load, end, options.routers, uploads))
    uploader.start()
    for thread in clients:
        thread.start()
    if options.kill:
        time.sleep(options.seconds / 2)
        os.kill(options.kill, signal.SIGKILL)
    for thread in clients:
        thread.join()
    uploaded = []
    while uploader.is_alive() or not uploads.empty():
        with contextlib.suppress(queue.Empty):
            uploaded.append(uploads.get(timeout=0.2))
    print(f"answers by status: {dict(load.statuses)} (0: no connection)")
    print(f"uploads (status, seconds): {[(status, round(took, 1)) for status, took in uploaded]}")
    for who, seconds in (("the crowd", sorted(load.seconds)), ("one careful user", sorted(alone))):
        if seconds:
            at = {share: seconds[min(len(seconds) - 1, int(share * len(seconds)))] for share in (0.5, 0.95, 0.99)}
            shares = ", ".join(f"{int(share * 100)} %: {took * 1000:.0f} ms" for share, took in at.items())
            print(f"{who}, {len(seconds)} answers: {shares}")
    print(f"questions with more than one answer: {sum(len(found) > 1 for found in load.answers.values())}")


if __name__ == "__main__":
    main()
