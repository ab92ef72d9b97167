"""What changes there are: each verb with what it does something to, and the keys it takes (docs/changes.md)."""

from dataclasses import dataclass

SWITCHES = (
    "compare_med_between_as",
    "deterministic_med",
    "missing_med",
    "prefer_oldest",
    "ignore_as_path_length",
)
"""Of BGP's decision."""

ATTRIBUTES = ("weight", "local_preference", "med", "origin", "prepend", "communities")
"""What a policy statement of a BGP session sets."""

EXPORTED = ("med", "prepend")
"""Attributes that are set on what is sent, unless a change says otherwise."""

INTERFACE_KEYS = ("mtu", "addresses", "acl_in", "acl_out", "forwarding_policy")
"""Settings of an interface that stand in its own mapping."""


@dataclass(frozen=True)
class Shape:
    """The kind of thing that ``at`` names, and the keys beside it."""

    at: str
    required: tuple[str, ...] = ()
    optional: tuple[str, ...] = ()


TARGETS = {
    "interface": "an interface, device:interface",
    "link": "a link, by its name or one of its ends, device:interface",
    "device": "a device",
    "site": "a site",
    "risk_group": "a risk group",
    "session": "a BGP session, as device and neighbour's address with a space between",
    "file": "a file of the network",
    "expectation": "an expectation, by its name",
}

_LISTED = {
    "static": Shape("device", (), ("vrf",)),
    "redistribution": Shape("device", ("into",), ("vrf", "instance")),
    "aggregate": Shape("device", (), ("vrf",)),
    "network": Shape("device", (), ("vrf",)),
    "range": Shape("device", ("area",), ("vrf", "instance")),
    "acl_entry": Shape("device", ("acl",)),
    "statement": Shape("device", ("policy",)),
    "steering_entry": Shape("device", ("policy",)),
}
"""What stands in lists, one after the other."""

SHAPES: dict[tuple[str, str], Shape] = {
    ("set", "cost"): Shape("interface", ("to",), ("instance",)),
    ("set", "area"): Shape("interface", ("to",), ("instance",)),
    ("set", "metric"): Shape("interface", ("to",), ("protocol",)),
    ("set", "delay"): Shape("interface", ("to",)),
    ("set", "bandwidth"): Shape("interface", ("to",), ("protocol",)),
    **{("set", key): Shape("interface", ("to",)) for key in INTERFACE_KEYS},
    ("set", "vrrp_priority"): Shape("interface", ("to",), ("router",)),
    ("set", "preference"): Shape("device", ("to",), ("of", "for", "from", "vrf")),
    ("set", "install_policy"): Shape("device", ("to",), ("vrf",)),
    **{("set", key): Shape("device", ("to",), ("vrf",)) for key in SWITCHES},
    **{("set", key): Shape("session", ("to",), ("on", "for", "vrf")) for key in ATTRIBUTES},
    **{
        (verb, what): Shape(what, (), ("vrf",) if what == "session" else ())
        for verb in ("enable", "disable")
        for what in ("interface", "link", "device", "site", "risk_group", "session")
    },
    **{(verb, "adjacency"): Shape("interface") for verb in ("enable", "disable")},
    ("announce", "path"): Shape("session", ("for", "path"), ("vrf",)),
    ("withdraw", "path"): Shape("session", ("for",), ("vrf",)),
    ("add", "link"): Shape("interface", ("to",), ("name",)),
    ("remove", "link"): Shape("link"),
    ("restart", "session"): Shape("session", (), ("to", "vrf")),
    **{("add", what): Shape(s.at, ("entry", *s.required), ("before", *s.optional)) for what, s in _LISTED.items()},
    **{
        ("change", what): Shape(s.at, ("entry", *s.required), ("number", "was", *s.optional))
        for what, s in _LISTED.items()
    },
    **{
        ("move", what): Shape(s.at, s.required, ("number", "was", "before", *s.optional)) for what, s in _LISTED.items()
    },
    **{("remove", what): Shape(s.at, s.required, ("number", "was", *s.optional)) for what, s in _LISTED.items()},
    ("add", "expectation"): Shape("expectation", ("entry",)),
    ("change", "expectation"): Shape("expectation", ("entry",)),
    ("remove", "expectation"): Shape("expectation"),
    ("edit", "device"): Shape("device", ("text",)),
    ("edit", "file"): Shape("file", ("text",)),
}

VERBS = tuple(dict.fromkeys(verb for verb, _ in SHAPES))


def whats(verb: str) -> list[str]:
    """What a verb does something to."""
    return [what for known, what in SHAPES if known == verb]
