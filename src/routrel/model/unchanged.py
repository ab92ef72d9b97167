"""What of two states of a model is the same but for its places in the text."""

from collections import defaultdict, deque
from collections.abc import Mapping, Sequence
from typing import Any

from routrel.model.fields import field_names, has_fields, replace
from routrel.model.places import Place


def without_places(value: Any) -> Any:
    """A value of the model without the places in it, to be compared and hashed."""
    if isinstance(value, Place):
        return None
    if names := field_names(type(value)):
        return (type(value), *(without_places(getattr(value, name)) for name in names))
    if isinstance(value, Mapping):
        return tuple((key, without_places(one)) for key, one in value.items())
    return tuple(without_places(one) for one in value) if isinstance(value, list | tuple) else value


def taking_over(old: Any, new: Any) -> Any:
    """``new`` with all that is the same in ``old`` but for places taken from there: its objects and their places."""
    if old is new or without_places(old) == without_places(new):
        return old
    if type(old) is not type(new):
        return new
    if has_fields(new):
        names = [name for name in field_names(type(new)) if not isinstance(getattr(new, name), Place)]
        return replace(new, **{name: taking_over(getattr(old, name), getattr(new, name)) for name in names})
    if isinstance(new, dict):
        return {key: taking_over(old[key], value) if key in old else value for key, value in new.items()}
    if type(new) is tuple:
        return _items(old, new)
    return new


def _items(old: Sequence[Any], new: Sequence[Any]) -> tuple[Any, ...]:
    """Items that are the same are taken over wherever they stand; what is left goes pair by pair."""
    known: defaultdict[Any, deque[int]] = defaultdict(deque)
    for number, item in enumerate(old):
        known[without_places(item)].append(number)
    taken = [matches.popleft() if (matches := known.get(without_places(item))) else None for item in new]
    left = iter(sorted(set(range(len(old))).difference(taken)))
    found = []
    for index, item in zip(taken, new, strict=True):
        if index is not None:
            found.append(old[index])
        else:
            other = next(left, None)
            found.append(item if other is None else taking_over(old[other], item))
    return tuple(found)
