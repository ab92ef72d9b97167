"""The paths that reached a BGP speaker as candidates, and those that its neighbours never sent."""

from collections.abc import Iterator

from routrel.analysis.contest.bgp.one_prefix import LOCALLY, BgpOnePrefix, Choice
from routrel.analysis.contest.bgp.path import Path, Refusal, differences
from routrel.analysis.contest.candidates import Candidate
from routrel.formats.mrt.records import is_dump
from routrel.model.addresses import Address
from routrel.model.places import Place
from routrel.routing.bgp.decision import UNREACHABLE
from routrel.routing.bgp.speakers import Channel


def candidates_of(plain: BgpOnePrefix, process: int, external: int, internal: int) -> Iterator[Candidate]:
    """All that reached a speaker, what it says itself included; preferences by kind."""
    said = plain.local.get(process)
    if said is not None:
        path, words, place = said
        is_aggregate = words.startswith("an aggregate")
        yield _described(
            plain,
            process,
            (path, LOCALLY),
            Candidate(
                "bgp",
                "",
                "aggregate" if is_aggregate else "local",
                internal,
                path.med or 0,
                words,
                action="discard" if is_aggregate else "forward",
                place=place,
            ),
        )
    for channel in plain.inward[process]:
        receipt = plain.received.get(channel.index)
        if receipt is None:
            continue
        path = receipt.kept or receipt.sent
        is_outside = plain.speakers[channel.sender].outside is not None
        neighbor = channel.receiving.neighbor
        kind = "external" if channel.external else "internal"
        preference = external if channel.external else internal
        resolution = plain.resolved(process, path.next_hop)
        candidate = Candidate(
            "bgp",
            "",
            kind,
            preference if path.preference is None else path.preference,
            path.med or 0,
            f"from {neighbor.address} ({_name(plain, channel.sender)}AS {plain.speakers[channel.sender].bgp.number})",
            resolution.next_hops,
            resolution.action,
            tag=path.tag,
            origin_device="" if is_outside else plain.device(channel.sender).name,
            place=receipt.policy_place if receipt.policy else neighbor.place,
        )
        candidate.has_own_preference = path.preference is not None
        if receipt.refusal is not None:
            candidate.out, candidate.place = receipt.refusal.text, receipt.refusal.place
        elif resolution.metric >= UNREACHABLE:
            candidate.out = f"its next hop {path.next_hop} does not resolve"
        _described(plain, process, (path, channel.index), candidate)
        if is_outside:
            candidate.attributes["received"] = _where(plain.local[channel.sender][2])
        if receipt.policy:
            candidate.attributes["policy"] = receipt.policy
            candidate.attributes.update(differences(receipt.sent, path))
        yield candidate


def _name(plain: BgpOnePrefix, process: int) -> str:
    """A device's name before the number of its AS; one outside the network has none."""
    return "" if plain.speakers[process].outside is not None else f"{plain.name(process)}, "


def _where(place: Place) -> str:
    """Where a path that was received stands."""
    return f"{place.file}, record {place.line}" if is_dump(place.file) else place.in_brief


def _described(plain: BgpOnePrefix, process: int, choice: Choice, candidate: Candidate) -> Candidate:
    path, via = choice
    shown = {
        "AS path": " ".join(map(str, path.as_path)) or "empty",
        "origin": path.origin,
        "MED": "" if path.med is None else str(path.med),
        "local preference": str(path.local_preference),
        "weight": str(path.weight) if path.weight else "",
        "communities": ", ".join(sorted(path.communities)),
        "next hop": str(path.next_hop) if path.next_hop is not None else "",
        "originator": "" if path.originator is None else str(Address(4, path.originator)),
        "cluster list": " ".join(str(Address(4, one)) for one in path.clusters),
    }
    candidate.attributes.update({name: value for name, value in shown.items() if value})
    candidate.path = path.seen(None if via == LOCALLY else plain.channels[via].receiving.neighbor.address)
    if not candidate.out:
        ranks = plain.ranks(process, choice)
        candidate.ranks = ranks.steps
        candidate.med_group = ranks.group
        candidate.turn = ranks.turn
        if via != LOCALLY:
            candidate.attributes["metric to the next hop"] = ranks.steps["metric to the next hop"][1]
    return candidate


def unsent_of(plain: BgpOnePrefix, process: int) -> Iterator[tuple[Channel, Path, Refusal]]:
    """Paths that neighbours hold and never sent here, each with the reason."""
    for channel in plain.inward[process]:
        sender = channel.sender
        best, said = plain.best.get(sender), plain.announced(sender)
        for choice in plain.choices(sender):
            if choice[1] == channel.reverse:
                continue  # it came from here
            if choice == said or (choice == best and isinstance(said, Refusal)):
                if channel.index not in plain.received:
                    sent = plain.sent(channel)
                    if isinstance(sent, Refusal):
                        yield channel, choice[0], sent
            elif choice == best:
                text = (
                    f"the table of {plain.name(sender)} uses another protocol's route, so BGP says its own path alone"
                )
                yield channel, choice[0], Refusal(text, plain.speakers[sender].bgp.place)
            else:
                yield channel, choice[0], Refusal(_better(plain, channel, best, best == said))


def _better(plain: BgpOnePrefix, channel: Channel, best: Choice | None, is_said: bool) -> str:
    """Why a path is not sent that its holder does not use, naming the one that it does use."""
    name = plain.name(channel.sender)
    if best is None:
        return f"it is not the best path of {name}"
    path, via = best
    source = "which it says itself" if via == LOCALLY else f"from {plain.name(plain.channels[via].sender)}"
    text = f"the best path of {name} is that with AS path {' '.join(map(str, path.as_path)) or 'empty'}, {source}"
    if channel.index in plain.received and is_said:
        return f"{text}, and that one was sent"
    return f"{text}, and comes from here" if via == channel.reverse else text
