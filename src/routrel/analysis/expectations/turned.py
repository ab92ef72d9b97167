"""What made an expectation fail between two states of a network: the differences that mend it when taken back alone.

A difference is taken back in the later state, which is solved with that; only what mends the flow is named, as small as
it can be found: a device, in it an access list, an interface, one of its values.
"""

import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from difflib import SequenceMatcher
from functools import partial
from typing import Any

from routrel.analysis.answers.expectations import Turned, TurnedBy
from routrel.analysis.expectations.conditions import Conditions
from routrel.analysis.expectations.holding import flows_of
from routrel.analysis.expectations.words import flow_words
from routrel.analysis.walk_verdicts import asked_flow
from routrel.forwarding.flow import Flow
from routrel.model.expectations import Expectation
from routrel.model.fields import field_names, has_fields, replace
from routrel.model.filters import AclEntry, SteeringEntry
from routrel.model.network import Network
from routrel.model.places import Place
from routrel.model.policies import PolicyStatement
from routrel.model.unchanged import without_places
from routrel.routing.solve import Solved
from routrel.solving import solve

MOST_TRIED = 60
"""Differences that are taken back, one after the other."""

MOST_SECONDS = 20.0

LONGEST_VALUE = 60

PARTS_OF_NETWORK = {"devices": "device", "links": "link", "endpoints": "endpoint", "services": "service"}


LINES = (AclEntry, SteeringEntry, PolicyStatement)
"""What is read as one line, and not taken apart."""


@dataclass(frozen=True)
class _Difference:
    """Something that differs: how it is called, what it was and is, and the later network with what it was."""

    words: str
    old: Any
    new: Any
    taken_back: Callable[[Any], Network]
    place_before: Place | None
    place_after: Place | None

    def is_one(self) -> bool:
        return bool(self.old != self.new and without_places(self.old) != without_places(self.new))

    def parts(self) -> Iterator["_Difference"]:
        """The differences that it consists of, where it has parts: by name, or items of a list."""
        old, new = self.old, self.new
        if isinstance(new, LINES):
            return
        if has_fields(new) and type(old) is type(new):
            for name in field_names(type(new)):
                if name not in ("place", "name"):
                    label, put = name.replace("_", " "), partial(_with_field, new, name)
                    yield self._part(label, getattr(old, name), getattr(new, name), put)
        elif isinstance(old, Mapping) and isinstance(new, Mapping):
            for key in [*old, *(key for key in new if key not in old)]:
                yield self._part(f"{key}", old.get(key), new.get(key), partial(_with_key, new, key))
        elif type(old) is tuple and type(new) is tuple:
            for was, now, index in _paired(old, new):
                yield self._part(_label(was, now, index), was, now, partial(_with_item, new, index, now is None))

    def _part(self, label: str, old: Any, new: Any, put: Callable[[Any], Any]) -> "_Difference":
        return _Difference(
            f"{self.words} {label}".strip(),
            old,
            new,
            lambda value: self.taken_back(put(value)),
            _place(old) or self.place_before,
            _place(new) or self.place_after,
        )

    def described(self) -> TurnedBy:
        plain = (str, int, float, bool, type(None))
        values = ""
        if isinstance(self.old, plain) and isinstance(self.new, plain):
            values = f": {_value(self.old)} > {_value(self.new)}"[:LONGEST_VALUE]
        elif self.old is None or self.new is None:
            values = " came" if self.old is None else " is gone"
        elif isinstance(self.new, LINES):
            values = " is another"
        return TurnedBy(f"{self.words}{values}", self.place_before, self.place_after)


def _value(of: Any) -> str:
    return {None: "none", True: "true", False: "false"}.get(of, f"{of}")


def _place(of: Any) -> Place | None:
    place = getattr(of, "place", None)
    return place if isinstance(place, Place) and place else None


def _with_field(of: Any, name: str, value: Any) -> Any:
    return replace(of, **{name: value})


def _with_key(of: Mapping[Any, Any], key: Any, value: Any) -> dict[Any, Any]:
    rest = {name: one for name, one in of.items() if name != key}
    return rest if value is None else {**rest, key: value}


def _with_item(of: tuple[Any, ...], index: int, is_gone: bool, value: Any) -> tuple[Any, ...]:
    return (*of[:index], *(() if value is None else (value,)), *of[index if is_gone else index + 1 :])


def _paired(old: tuple[Any, ...], new: tuple[Any, ...]) -> Iterator[tuple[Any, Any, int]]:
    """What differs in two lists, item by item in their order, with where each stands or would stand in the new one."""
    plain_old, plain_new = [*map(without_places, old)], [*map(without_places, new)]
    for what, start, end, now, stop in SequenceMatcher(None, plain_old, plain_new, autojunk=False).get_opcodes():
        if what != "equal":
            for offset in range(max(end - start, stop - now)):
                was = old[start + offset] if start + offset < end else None
                is_there = now + offset < stop
                yield was, new[now + offset] if is_there else None, now + offset if is_there else stop


def _label(was: Any, now: Any, index: int) -> str:
    """What an item of a list is called."""
    one = was if now is None else now
    ends = getattr(one, "ends", None)
    if ends is not None:
        return getattr(one, "name", "") or " – ".join(map(str, ends))
    name = getattr(one, "name", None) or getattr(one, "address", None) or getattr(one, "prefix", None)
    return f"{name}" if name else f"{index + 1}"


def _nothing(words: str) -> Turned:
    return Turned(words, None, [], [], 0)


def turned(before: Solved, after: Solved, name: str) -> Turned:
    """What made an expectation fail that held before."""
    expectation = next((one for one in after.network.expectations if one.name == name), None)
    if expectation is None:
        return _nothing(f"there is no expectation {name!r} in the later revision")
    now, then = Conditions(after), Conditions(before)
    failing = [(flow, found) for flow in flows_of(expectation) if not (found := now.check(expectation, flow)).holds]
    if not failing:
        return _nothing(f"{name!r} holds in the later revision, as far as one looks without failures")
    flow, found = failing[0]
    reasons = [found.refused] if found.refused else list(found.reasons)
    if not then.check(expectation, flow).holds:
        return _nothing(
            f"{flow_words(flow)}, as it is expected in the later revision, did not do so in the earlier one either"
        )
    looked = _Looking(after, expectation, flow)
    network = _Difference("", before.network, after.network, lambda one: one, None, None)
    parts = [
        replace(one, words=PARTS_OF_NETWORK[one.words]) for one in network.parts() if one.words in PARTS_OF_NETWORK
    ]
    by = [finer for part in parts for difference in looked.mending(part) for finer in looked.finest(difference)]
    return Turned(_words(flow, by, looked), asked_flow(flow), reasons, [one.described() for one in by], looked.tried)


class _Looking:
    """Takes back one difference after the other while there is a budget."""

    def __init__(self, after: Solved, expectation: Expectation, flow: Flow):
        self.after = after
        self.expectation = expectation
        self.flow = flow
        self.tried = 0
        self.is_cut_off = False
        self._end = time.monotonic() + MOST_SECONDS

    def _mends(self, difference: _Difference) -> bool:
        if self.tried >= MOST_TRIED or time.monotonic() > self._end:
            self.is_cut_off = True
            return False
        self.tried += 1
        back = solve(difference.taken_back(difference.old), self.after)
        return Conditions(back).check(self.expectation, self.flow).holds

    def mending(self, difference: _Difference) -> list[_Difference]:
        """The parts that mend it alone."""
        return [part for part in difference.parts() if part.is_one() and self._mends(part)]

    def finest(self, difference: _Difference) -> Iterator[_Difference]:
        """The smallest parts of something that mends it which still do."""
        smaller = self.mending(difference)
        if smaller:
            for one in smaller:
                yield from self.finest(one)
        else:
            yield difference


def _words(flow: Flow, by: list[_Difference], looked: _Looking) -> str:
    rest = "; more were not tried" if looked.is_cut_off else ""
    tried = f"{looked.tried} difference{'' if looked.tried == 1 else 's'}"
    if by:
        each = "this, taken back," if len(by) == 1 else "each of these, taken back alone,"
        return f"{each} makes {flow_words(flow)} do what is expected again{rest}"
    return f"none of {tried} makes {flow_words(flow)} do what is expected again when taken back alone{rest}"
