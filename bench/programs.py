"""Filter programs: compiling and asking a large one, beside the same packets through a list of ten rules."""

import json
import random
import time
from typing import Any

from routrel.formats.errors import ErrorList
from routrel.formats.json_items import json_items
from routrel.formats.nftables import read_filters
from routrel.forwarding.programs.engine import Engine, Passage
from routrel.forwarding.programs.packets import Packet
from routrel.forwarding.programs.tracking import Tracker
from routrel.model.addresses import Address
from routrel.model.filters import Header


class Alone:
    """Surroundings of a device that nothing is asked about."""

    def route_interface(self, header: Header, interface: str | None, mark: int | None) -> str:
        return ""

    def address_type(self, address: Address, iif: str | None) -> int:
        return 1

    def own_address(self, interface: str, family: int, towards: Address | None) -> Address | None:
        return None


def ruleset(rules: int, elements: int) -> bytes:
    """One forward chain of so many rules, and a set of so many addresses that its last rule asks."""
    dice = random.Random(1)

    def address() -> str:
        return str(Address(4, (10 << 24) + dice.randrange(1 << 24)))

    def match(protocol: str, field: str, right: Any) -> dict[str, Any]:
        return {"match": {"op": "==", "left": {"payload": {"protocol": protocol, "field": field}}, "right": right}}

    table = {"family": "inet", "table": "f"}
    drawn = sorted({address() for _ in range(elements)})
    items: list[dict[str, Any]] = [
        {"set": {**table, "name": "many", "type": "ipv4_addr", "elem": drawn}},
        {"chain": {**table, "name": "fw", "type": "filter", "hook": "forward", "prio": 0, "policy": "accept"}},
    ]
    for _ in range(rules):
        source = {"prefix": {"addr": address().rsplit(".", 1)[0] + ".0", "len": 24}}
        port = {"range": sorted((dice.randrange(65536), dice.randrange(65536)))}
        one = [match("ip", "saddr", source), match("ip", "daddr", address()), match("tcp", "dport", port)]
        items.append({"rule": {**table, "chain": "fw", "expr": [*one, {"drop": None}]}})
    items.append({"rule": {**table, "chain": "fw", "expr": [match("ip", "saddr", "@many"), {"accept": None}]}})
    return json.dumps({"nftables": items}).encode()


def measure(rules: int, elements: int, packets: int = 2000) -> tuple[float, float]:
    """(seconds to read and compile, seconds for one packet)."""
    data = ruleset(rules, elements)
    start = time.perf_counter()
    program = read_filters(json_items(data, "filters.json", "nftables"), ErrorList()).program
    assert program is not None
    engine = Engine(0, program, Alone())
    compiled = time.perf_counter() - start
    dice = random.Random(2)
    headers = [
        Header(
            6, Address(4, (10 << 24) + dice.randrange(1 << 24)), Address(4, (10 << 24) + dice.randrange(1 << 24)), 5, 80
        )
        for _ in range(packets)
    ]
    start = time.perf_counter()
    for header in headers:
        engine.run("forward", [Passage(Packet(header, "first", "lan", "wan"))], Tracker())
    return compiled, (time.perf_counter() - start) / packets


def main(quick: bool) -> None:
    rules, elements = (500, 5000) if quick else (10_000, 100_000)
    _, yardstick = measure(10, 10)
    compiled, each = measure(rules, elements)
    print(f"filter program of {rules:,} rules and a set of {elements:,}: read and compiled in {compiled:.2f} s;")
    print(f"  {each * 1e6:.0f} us a packet, {each / yardstick:.1f} x that through ten rules")
