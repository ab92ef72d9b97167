"""Documents in which something is changed, by a dice."""

import copy
import random

ODD = (
    *(None, True, False, 0, 1, -1, 255, 65536, 2**32, 2**63, 1.5, "", " ", "x", "10.0.0.0/8", "10.0.0.1", "::/0"),
    *("fe80::1%e", "0.0.0.0/0", "255.255.255.255/32", "default", "unicast", "[]", "{}", "\u00e9", "a" * 300),
    *([], {}, [[]], [{}], {"a": 1}, ["x"], [1], {"next_hop": "10.0.0.1"}),
)


def places(value, path=()):
    """The paths of everything inside a value."""
    yield path
    if isinstance(value, dict):
        for key in value:
            yield from places(value[key], (*path, key))
    elif isinstance(value, list):
        for index in range(len(value)):
            yield from places(value[index], (*path, index))


def at(value, path):
    for step in path:
        value = value[step]
    return value


def mutated(document, dice: random.Random):
    """One to three changes: a value put, copied from elsewhere, taken out, doubled or renamed."""
    document = copy.deepcopy(document)
    for _ in range(dice.randint(1, 3)):
        inside = [path for path in places(document) if path]
        if not inside:
            return document
        path = dice.choice(inside)
        parent, last = at(document, path[:-1]), path[-1]
        action = dice.randrange(5)
        if action == 0:
            parent[last] = copy.deepcopy(dice.choice(ODD))
        elif action == 1:
            parent[last] = copy.deepcopy(at(document, dice.choice(inside)))
        elif action == 2:
            del parent[last]
        elif action == 3 and isinstance(parent, list):
            parent.insert(dice.randint(0, len(parent)), copy.deepcopy(parent[last]))
        elif isinstance(parent, dict):
            parent[str(dice.choice([*parent, "x", "default", "lo", "0"]))] = parent.pop(last)
    return document
