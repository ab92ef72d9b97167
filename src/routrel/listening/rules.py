"""The rules by which messages of syslog mean events, as a YAML file (docs/events.md)."""

import re
from typing import Any

import yaml

from routrel.formats.errors import ErrorList, LoadError, quoted
from routrel.formats.grammar import Reading, data_of, keys_of
from routrel.formats.yaml_nodes import parse_document
from routrel.listening.syslog import Rule, Rules, compiled

MOST_RULES = 500
LONGEST_EXPRESSION = 1000
EXAMPLE = r"{match: 'Interface (?P<name>\S+) is down', event: {down: interface, at: '{host}:{name}'}}"


def read_rules(data: bytes, file: str) -> Rules:
    """The rules of a file; raises ``LoadError`` with all errors in it."""
    root = parse_document(data, file)
    errors = ErrorList()
    reading = Reading(file, errors)
    if not isinstance(root, yaml.MappingNode):
        reading.refuse(root, "a mapping is expected here", "rules, hosts")
        raise LoadError(errors.errors)
    rules, hosts = list[Rule](), dict[str, str]()
    for key, key_node, value in keys_of(root, reading):
        if key == "rules" and isinstance(value, yaml.SequenceNode):
            if len(value.value) > MOST_RULES:
                reading.refuse(value, f"too many rules: {len(value.value):,}", f"at most {MOST_RULES}")
                break
            rules = [rule for one in value.value if (rule := _rule(one, reading)) is not None]
        elif key == "hosts" and isinstance(value, yaml.MappingNode):
            hosts = {str(name): str(device) for name, device in data_of(value).items()}
        else:
            reading.refuse(key_node, "this is no part of rules", "rules, a list; hosts, names with devices")
    if not rules and not errors.errors:
        reading.refuse(root, "there are no rules", f"rules: [{EXAMPLE}]")
    errors.raise_if_any()
    return Rules(tuple(rules), hosts)


def _rule(node: yaml.Node, reading: Reading) -> Rule | None:
    if not isinstance(node, yaml.MappingNode):
        reading.refuse(node, "a rule is a mapping", EXAMPLE)
        return None
    nodes = {key: (key_node, value) for key, key_node, value in keys_of(node, reading)}
    for key, (key_node, _) in nodes.items():
        if key not in ("match", "app", "event"):
            reading.refuse(key_node, "unknown key of a rule", "match, app, event", ("match", "app", "event"), key)
    for key in ("match", "event"):
        if key not in nodes:
            reading.errors.add(reading.place_of(node), f"a rule lacks the key {key!r}", allowed=EXAMPLE)
            return None
    expression, event = data_of(nodes["match"][1]), data_of(nodes["event"][1])
    if not isinstance(expression, str) or len(expression) > LONGEST_EXPRESSION:
        reading.refuse(nodes["match"][1], "an expression is expected here", f"at most {LONGEST_EXPRESSION} characters")
        return None
    try:
        pattern = compiled(expression)
    except ValueError as error:
        reading.refuse(nodes["match"][1], f"this is no regular expression: {error}")
        return None
    if not isinstance(event, dict) or "time" in event:
        reading.refuse(nodes["event"][1], "an event without its time is expected here", EXAMPLE)
        return None
    known = ("host", *pattern.groupindex)
    for name in _names(event):
        if name not in known:
            reading.errors.add(
                reading.place_of(nodes["event"][1]),
                "nothing is found under this name",
                found=quoted(name),
                allowed=", ".join(known),
            )
            return None
    return Rule(pattern, str(data_of(nodes["app"][1])) if "app" in nodes else "", event)


def _names(value: Any) -> list[str]:
    """All names in braces in the texts of a value."""
    if isinstance(value, dict):
        return [name for one in value.values() for name in _names(one)]
    if isinstance(value, list):
        return [name for one in value for name in _names(one)]
    return re.findall(r"\{([A-Za-z_]\w*)\}", value) if isinstance(value, str) else []
