"""Routing policies: ietf-routing-policy (RFC 9067), and OpenConfig's, which it began as.

Policies in a chain are asked one after the other, then the default decides (RFC 9067 section 5): the network file has
one policy for each use, so a chain becomes one of their statements in order.
"""

from collections.abc import Iterable
from typing import TypeVar

from routrel.formats.models.draft import DeviceDraft, Draft, Said, UnrepresentedError, address_of, prefix_of
from routrel.formats.models.statements import Statement

Member = TypeVar("Member")
RESULTS = {"accept-route": "accept", "ACCEPT_ROUTE": "accept", "reject-route": "reject", "REJECT_ROUTE": "reject"}
SOURCES = {
    "BGP": "bgp",
    "OSPF": "ospf",
    "OSPF3": "ospf",
    "ISIS": "isis",
    "STATIC": "static",
    "DIRECTLY_CONNECTED": "connected",
    "LOCAL_AGGREGATE": "static",
    "bgp": "bgp",
    "ospf": "ospf",
    "ospfv2": "ospf",
    "ospfv3": "ospf",
    "isis": "isis",
    "static": "static",
    "direct": "connected",
    "rip": "rip",
    "ripv2": "rip",
    "ripng": "rip",
}
COMMUNITIES = {
    "NO_EXPORT": "no-export",
    "NO_ADVERTISE": "no-advertise",
    "NO_EXPORT_SUBCONFED": "no-export-subconfed",
    "no-export": "no-export",
    "no-advertise": "no-advertise",
    "no-export-subconfed": "no-export-subconfed",
}
MOST_TAGS = 50
"""Of a set, each of which makes a statement of its own."""

LENGTH_BOUNDS = {
    "ATTRIBUTE_LE": ("max_length",),
    "lt-or-eq": ("max_length",),
    "ATTRIBUTE_GE": ("min_length",),
    "gt-or-eq": ("min_length",),
    "ATTRIBUTE_EQ": ("min_length", "max_length"),
    "eq": ("min_length", "max_length"),
}
"""Of an AS path, by the operator."""

ANY = ("any", "ANY", None)
TYPE_NUMBERS = {"ospf-type-1": "1", "ospf-type-2": "2", "OSPF_EXTERNAL_TYPE_1": "1", "OSPF_EXTERNAL_TYPE_2": "2"}


def read_policies(top: Statement, draft: DeviceDraft) -> None:
    """The tree ``routing-policy`` of either model."""
    root = draft.begin(top)
    sets = _Sets(top.at("defined-sets"), draft)
    for name, entries in sets.prefixes.items():
        root.inner("prefix_sets", top)[name] = entries
    definitions = top.entries("policy-definitions", "policy-definition")
    for name, definition in draft.keyed(definitions, "name"):
        statements = []
        for own, statement in draft.keyed(definition.entries("statements", "statement"), "name"):
            try:
                statements += _statements(own, statement, sets, draft)
            except UnrepresentedError as error:
                statement.read_all(is_left_out=True)
                draft.gap(f"{error}, so its policy statement is left out", error.by)
        root.inner("policies", top)[draft.fitting(name)] = statements


def add_chains(draft: DeviceDraft) -> None:
    """Make the policies that sessions ask by chains of several, or with a default of their own."""
    for name, chain in draft.chains.items():
        root = draft.begin(chain.by)
        policies = root.inner("policies", chain.by)
        statements = [one for said in chain.policies for one in policies.get(said.text, ())]
        missing = [said for said in chain.policies if said.text not in policies]
        if missing:
            draft.dangling(missing[0], "policy", policies)
        closing = Draft(chain.by, result=chain.default)
        policies[name] = [*statements, closing]
    for name in {said.text for chain in draft.chains.values() for said in chain.policies} - draft.asked_alone.keys():
        if draft.root is not None:
            draft.root["policies"].pop(name, None)


class _Sets:
    """Named sets that conditions refer to."""

    def __init__(self, sets: Statement | None, draft: DeviceDraft):
        self.prefixes: dict[str, list[Draft]] = {}
        self.neighbors: dict[str, list[Said]] = {}
        self.tags: dict[str, list[Said]] = {}
        self.communities: dict[str, list[Statement]] = {}
        self.as_paths: dict[str, list[Statement]] = {}
        if sets is None:
            return
        for name, one in draft.keyed(sets.entries("prefix-sets", "prefix-set"), "name", "mode"):
            entries = [*one.entries("prefixes", "prefix-list"), *one.entries("prefixes", "prefix")]
            # A set of each family may have the same name, by which both are meant.
            self.prefixes.setdefault(draft.fitting(name), []).extend(map(_prefix_match, entries))
        for name, one in draft.keyed(sets.entries("neighbor-sets", "neighbor-set"), "name"):
            addresses = [address_of(address) for address in one.entries("address")]
            self.neighbors[name] = [address for address in addresses if address is not None]
        for name, one in draft.keyed(sets.entries("tag-sets", "tag-set"), "name"):
            self.tags[name] = [Said(tag.value or "", tag) for tag in one.entries("tag-value")]
        bgp = sets.at("bgp-defined-sets")
        for kind, key, into in (
            ("community-set", "community-member", self.communities),
            ("as-path-set", "as-path-set-member", self.as_paths),
        ):
            for one in bgp.entries(f"{kind}s", kind) if bgp is not None else ():
                into[one.text(f"{kind}-name") or one.text("name") or ""] = one.entries(key) or one.entries("member")
                one.at("match-set-options")


def _prefix_match(entry: Statement) -> Draft:
    found = Draft(entry, prefix=prefix_of(entry.at("ip-prefix")))
    low, high = entry.at("mask-length-lower"), entry.at("mask-length-upper")
    span = entry.at("masklength-range")
    if span is not None and span.value and span.value != "exact":
        least, _, most = span.value.partition("..")
        found["min_length"], found["max_length"] = Said(least, span), Said(most or least, span)
    elif low is not None and high is not None:
        found["min_length"], found["max_length"] = Said(low.value or "", low), Said(high.value or "", high)
    return found


def _statements(name: str, statement: Statement, sets: _Sets, draft: DeviceDraft) -> list[Draft]:
    """A statement; one for each tag of a set of several, of which a route has one at most."""
    tags = _referred(statement.at("conditions") or statement, "match-tag-set", "tag-set")
    members = _members(sets.tags, tags) if tags is not None else [None]
    if len(members) > MOST_TAGS:
        raise UnrepresentedError(f"a set of more than {MOST_TAGS} tags is not represented", tags or statement)
    found = []
    for tag in members:
        found.append(_statement(name, statement, sets, draft))
        if tag is not None:
            found[-1].inner("match", tags or statement)["tag"] = tag
    return found


def _statement(name: str, statement: Statement, sets: _Sets, draft: DeviceDraft) -> Draft:
    actions = statement.at("actions")
    result = actions.at("policy-result") if actions is not None else None
    found = Draft(statement, name=Said(name, statement))
    conditions = statement.at("conditions")
    if conditions is not None:
        match = _match(conditions, sets, draft)
        if match:
            found["match"] = match
    if actions is not None:
        made = _set_of(actions, sets, draft)
        if made:
            found["set"] = made
    word = RESULTS.get((result.value or "").rpartition(":")[2], "continue") if result is not None else "continue"
    found["result"] = Said(word, result or statement)
    return found


def _match(conditions: Statement, sets: _Sets, draft: DeviceDraft) -> Draft:
    match = Draft(conditions)
    for leaf in ("call-policy", "match-interface", "match-route-type"):
        if (one := conditions.at(leaf)) is not None:
            raise UnrepresentedError(f"the condition {leaf} is not represented", one)
    source = conditions.at("source-protocol") or conditions.at("install-protocol-eq")
    if source is not None:
        word = SOURCES.get((source.value or "").rpartition(":")[2])
        if word is None:
            raise UnrepresentedError(f"routes of protocol {source.value} are not represented", source)
        match.put("protocol", source, word)
    prefixes = _referred(conditions, "match-prefix-set", "prefix-set")
    if prefixes is not None:
        match.put("prefixes", prefixes, draft.fitting(prefixes.value or ""))
    neighbors = _referred(conditions, "match-neighbor-set", "neighbor-set")
    if neighbors is not None:
        match["neighbor"] = _members(sets.neighbors, neighbors)
    bgp = conditions.at("bgp-conditions")
    if bgp is not None:
        _match_bgp(match, bgp, sets)
        _refuse_unread(bgp, "the condition")
    _refuse_unread(conditions, "the condition")
    return match


def _match_bgp(match: Draft, bgp: Statement, sets: _Sets) -> None:
    med = bgp.at("med-eq")
    if med is not None:
        match.put("med", med)
    communities = bgp.at("match-community-set")
    name = communities.at("community-set") if communities is not None else None
    if name is not None and communities is not None:
        values = [_community(one) for one in _members(sets.communities, name)]
        options = communities.identity("match-set-options")
        if options in ("all", "ALL"):
            match["communities"] = Draft(name, all=values)
        elif options in ANY:
            match["communities"] = values
        else:
            raise UnrepresentedError("a condition that no community of a set is there is not represented", communities)
    paths = _referred(bgp, "match-as-path-set", "as-path-set")
    if paths is not None:
        patterns = [one.value or "" for one in _members(sets.as_paths, paths)]
        text = patterns[0] if len(patterns) == 1 else "|".join(f"({one})" for one in patterns)
        match["as_path"] = Said(text, paths)
    length = bgp.at("as-path-length") or bgp.at("match-as-path-length")
    if length is not None:
        if paths is not None:
            raise UnrepresentedError("an AS path by its numbers and its length is not represented", length)
        match["as_path"] = _as_path_length(length)


def _as_path_length(length: Statement) -> Draft:
    """Operator and value (OpenConfig), or a leaf named by the operator."""
    operator, number = length.identity("operator"), length.at("value")
    for leaf in ("eq", "lt-or-eq", "gt-or-eq"):
        if (said := length.at(leaf)) is not None:
            operator, number = leaf, said
    if number is None:
        raise UnrepresentedError("an AS path of no stated length is not represented", length)
    bounds = LENGTH_BOUNDS.get(operator or "")
    if bounds is None:
        raise UnrepresentedError(f"the operator {operator} is not represented", length)
    return Draft(length, **{key: Said(number.value or "", number) for key in bounds})


def _referred(conditions: Statement, container: str, leaf: str) -> Statement | None:
    """The leaf that names a set of which any member has to match."""
    holder = conditions.at(container)
    if holder is None:
        return None
    options = holder.at("match-set-options")
    if options is not None and options.value not in ANY:
        raise UnrepresentedError(f"{container} with the option {options.value} is not represented", options)
    return holder.at(leaf)


def _members(sets: dict[str, list[Member]], name: Statement) -> list[Member]:
    found = sets.get(name.value or "")
    if not found:
        raise UnrepresentedError(f"the set {name.value!r} has no members, or does not exist", name)
    return found


def _community(said: Statement) -> Said:
    text = (said.value or "").rpartition(":")[2] if not (said.value or "")[:1].isdigit() else said.value or ""
    if text.isdecimal():
        number = int(text)
        return Said(f"{number >> 16}:{number & 0xFFFF}", said)
    if text not in COMMUNITIES and not all(part.isdecimal() for part in text.split(":")):
        raise UnrepresentedError(f"the community expression {said.value!r} is not represented", said)
    return Said(COMMUNITIES.get(text, text), said)


def _set_of(actions: Statement, sets: _Sets, draft: DeviceDraft) -> Draft:
    made = Draft(actions)
    metric = actions.at("set-metric", "metric")
    if metric is not None:
        change = actions.identity("set-metric", "metric-modification")
        if change not in (None, "set-metric"):
            raise UnrepresentedError(f"a metric changed by {change} is not represented", metric)
        made.put("metric", metric)
    kind = actions.at("set-metric-type", "metric-type")
    if kind is not None:
        number = TYPE_NUMBERS.get((kind.value or "").rpartition(":")[2])
        if number is None:
            raise UnrepresentedError(f"the metric type {kind.value} is not represented", kind)
        made.put("metric_type", kind, number)
    for leaf, key in (("set-tag", "tag"), ("set-route-preference", "preference")):
        said = actions.at(leaf)
        if said is not None and said.value is None:
            said = said.at("inline", "tag") or said.at("tag")
        if said is not None:
            made.put(key, said)
    bgp = actions.at("bgp-actions")
    if bgp is not None:
        _set_bgp(made, bgp, sets, draft)
        _refuse_unread(bgp, "the action")
    return made


def _set_bgp(made: Draft, bgp: Statement, sets: _Sets, draft: DeviceDraft) -> None:
    made.put("local_preference", bgp.at("set-local-pref"))
    med = bgp.at("set-med")
    if med is not None:
        if not (med.value or "").isdecimal():
            raise UnrepresentedError(f"a MED set to {med.value} is not represented", med)
        made.put("med", med)
    hop = bgp.at("set-next-hop")
    if hop is not None:
        if (hop.value or "").upper() == "SELF":
            made.put("next_hop_self", hop, "true")
        else:
            made.put("next_hop", hop)
    origin = bgp.at("set-route-origin")
    if origin is not None:
        made.put("origin", origin, (origin.value or "").lower())
    prepend = bgp.at("set-as-path-prepend")
    if prepend is not None:
        own = prepend.at("asn") or draft.own_as
        if own is None:
            raise UnrepresentedError("prepending without an AS is not represented", prepend)
        made["as_path_prepend"] = Draft(prepend, **{"as": Said(own.value or "", own)})
        made["as_path_prepend"].put("times", prepend.at("repeat-n"))
    change = bgp.at("set-community")
    if change is not None:
        option = (change.identity("options") or "ADD").lower()
        said = change.entries("inline", "communities") or _listed(change, sets)
        if option not in ("add", "remove", "replace"):
            raise UnrepresentedError(f"the option {option} for communities is not represented", change)
        change.at("method")
        made["communities"] = Draft(change, **{option: [_community(one) for one in said]})


def _listed(change: Statement, sets: _Sets) -> Iterable[Statement]:
    names = [*change.entries("reference", "community-set-ref"), *change.entries("reference", "community-set-refs")]
    return [one for name in names for one in _members(sets.communities, name)]


def _refuse_unread(holder: Statement, what: str) -> None:
    """A condition or action that nobody looked at would change what the statement means."""
    for leaf in holder.leaves():
        if not leaf.is_read:
            raise UnrepresentedError(f"{what} {leaf.name} is not represented", leaf)
