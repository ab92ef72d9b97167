"""BGP for one prefix in plain code, apart from the bulk solver: who says what to whom, and what becomes of it.

Sessions, what routers put in, and next hops are those of the solved network; propagation, policies and the
decision are derived here again, path by path, with every change and refusal noted on the way.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from routrel.analysis.contest.bgp_decision import Ranks, eliminate
from routrel.analysis.contest.bgp_path import LOCAL_PREFERENCE, Path, Refusal, changed_by, differences
from routrel.analysis.contest.candidates import Candidate
from routrel.analysis.contest.policies import Asked, Decision, ask
from routrel.model.addresses import Address, Prefix
from routrel.model.bgp import BgpDecision
from routrel.model.devices import Device
from routrel.model.places import NOWHERE, Place
from routrel.model.policies import NO_ADVERTISE, NO_EXPORT, NO_EXPORT_SUBCONFED
from routrel.routing.bgp import paths as columns
from routrel.routing.bgp.decision import UNREACHABLE
from routrel.routing.bgp.propagation import seconds
from routrel.routing.bgp.resolution import Resolution
from routrel.routing.bgp.sessions import Channel
from routrel.routing.bgp.solution import BgpSolution
from routrel.routing.rows import Injected

WORST_MED = 2**32 - 1
UNKNOWN_AGE = 2**62
ROUNDS = 400


@dataclass(frozen=True, slots=True)
class Receipt:
    """A path as it came by a channel; ``kept`` is what import made of it, None where it was refused."""

    channel: Channel
    sent: Path
    kept: Path | None
    refusal: Refusal | None = None
    policy: str = ""
    """What the import policy did, in words."""
    policy_place: Place = NOWHERE


Choice = tuple[Path, int]
"""A path and the channel it came by, -1 where the router says it itself."""

LOCALLY = -1


class BgpPlain:
    """One prefix over all speakers."""

    def __init__(self, solution: BgpSolution, injected: Mapping[int, Injected], blocked: set[int], prefix: Prefix):
        self.solution = solution
        self.topology = solution.topology
        self.speakers = solution.database.speakers
        self.channels = solution.state.channels
        self.prefix = prefix
        self.blocked = blocked
        self.column = solution.prefixes.column_of(prefix)
        self.local: dict[int, tuple[Path, str, Place]] = self._said(injected)
        self.suppressed = self._suppressed()
        self.received: dict[int, Receipt] = {}
        self.best: dict[int, Choice] = {}
        self.settles = True
        self.inward: list[list[Channel]] = [[] for _ in self.speakers]
        self.outward: list[list[Channel]] = [[] for _ in self.speakers]
        for channel in self.channels:
            if prefix.family in channel.families:
                self.inward[channel.receiver].append(channel)
                self.outward[channel.sender].append(channel)
        for incoming in self.inward:
            incoming.sort(key=lambda channel: channel.receiving.neighbor.address)
        self._run()

    def name(self, process: int) -> str:
        return self.topology.instance_name(self.speakers[process].instance)

    def device(self, process: int) -> Device:
        return self.topology.devices[self.topology.instances[self.speakers[process].instance].device]

    def _said(self, injected: Mapping[int, Injected]) -> dict[int, tuple[Path, str, Place]]:
        """What speakers say themselves, in words, and where that is written."""
        found: dict[int, tuple[Path, str, Place]] = {}
        held = self.solution.propagation
        for process, speaker in enumerate(self.speakers):
            for aggregate in speaker.bgp.aggregates:
                if held is not None and aggregate.prefix == self.prefix and self.column in held.aggregated[process]:
                    path = Path(origin=self._worst_origin(held.best[process]))
                    found[process] = path, "an aggregate of its own", aggregate.place
            put_in = injected.get(process)
            if put_in is None:
                continue
            at = int(put_in.numbers.searchsorted(self.column))
            if at >= len(put_in.numbers) or put_in.numbers[at] != self.column:
                continue
            words, place = "redistributed into BGP", speaker.bgp.place
            for prefix, where in speaker.bgp.networks:
                if prefix == self.prefix:
                    words, place = "a network of its own", where
            found[process] = self._path(int(put_in.paths[at])), words, place
        return found

    def _worst_origin(self, best: npt.NDArray[np.int64]) -> str:
        """The origin of an aggregate: the worst of the paths inside it (RFC 4271 section 9.2.2.2)."""
        covered = self.solution.prefixes.covered(self.prefix)
        inside = [number for at, number in enumerate(best[covered].tolist(), covered.start) if at != self.column]
        rows = self.solution.paths.rows
        return columns.ORIGINS[max(int(rows[number, columns.ORIGIN]) for number in inside if number >= 0)]

    def _path(self, number: int) -> Path:
        """A path that is put in, from the numbers it has in bulk."""
        row, paths = self.solution.paths.rows[number].tolist(), self.solution.paths
        return Path(
            paths.as_paths.values[row[columns.AS_PATH]],
            columns.ORIGINS[row[columns.ORIGIN]],
            None if row[columns.MED] < 0 else row[columns.MED],
            row[columns.LOCAL_PREFERENCE],
            paths.communities.values[row[columns.COMMUNITIES]],
            paths.next_hops.values[row[columns.NEXT_HOP]],
            weight=row[columns.WEIGHT],
        )

    def _suppressed(self) -> dict[int, Place]:
        """Speakers that send a summary in place of this prefix."""
        held = self.solution.propagation
        found = {}
        for process, speaker in enumerate(self.speakers):
            for aggregate in speaker.bgp.aggregates:
                standing = (
                    held is not None and self.solution.prefixes.number[aggregate.prefix] in held.aggregated[process]
                )
                inside = aggregate.prefix.covers(self.prefix) and aggregate.prefix != self.prefix
                if standing and aggregate.summary_only and inside:
                    found[process] = aggregate.place
        return found

    def _run(self) -> None:
        """Everyone at once; where that comes round, from nothing one after the other."""
        self.settles = self._settle(True) or self._settle(False)

    def _settle(self, together: bool) -> bool:
        """From nothing until nothing changes; False where an earlier state comes back."""
        self._start()
        seen = set()
        everyone = range(len(self.speakers))
        for _ in range(ROUNDS):
            before = self._state()
            if together:
                for process in everyone:
                    self._choose(process)
            for process in everyone:
                if not together:
                    self._choose(process)
                self._send_all(process)
            after = self._state()
            if after == before:
                return True
            if after in seen:
                return False
            seen.add(after)
        return False

    def _state(self) -> tuple[tuple[int, Path | None], ...]:
        return tuple(sorted((number, receipt.kept) for number, receipt in self.received.items()))

    def _start(self) -> None:
        self.received.clear()
        self.best.clear()
        for channel in self.channels:
            default = self._default_of(channel)
            if default is not None:
                self.received[channel.index] = self.let_in(channel, default)

    def _default_of(self, channel: Channel) -> Path | None:
        """``originate_default``: what a speaker says to one neighbour whatever it has."""
        if not channel.sending.neighbor.originate_default or self.prefix.length:
            return None
        own = dict(channel.next_hops).get(self.prefix.family)
        if own is None or self.prefix.family not in channel.families:
            return None
        number = self.speakers[channel.sender].bgp.number
        return Path((number,) if channel.external else (), next_hop=own)

    def _choose(self, process: int) -> None:
        choices = self.choices(process)
        if not choices:
            self.best.pop(process, None)
            return
        self.best[process] = choices[self.winner(process, choices)]

    def choices(self, process: int) -> list[Choice]:
        """The paths of a speaker that can be used: its own, then by the neighbours' addresses."""
        found: list[Choice] = []
        if process in self.local:
            found.append((self.local[process][0], LOCALLY))
        for channel in self.inward[process]:
            receipt = self.received.get(channel.index)
            kept = receipt.kept if receipt is not None else None
            if kept is not None and self.metric(process, kept.next_hop) < UNREACHABLE:
                found.append((kept, channel.index))
        return found

    def metric(self, process: int, next_hop: Address | None) -> int:
        """The metric to a next hop by the speaker's table."""
        return self._resolved(process, next_hop).metric

    def _resolved(self, process: int, next_hop: Address | None) -> Resolution:
        number = self.solution.paths.next_hops.number(next_hop)
        return self.solution.resolvers[process].resolve(number)

    def winner(self, process: int, choices: list[Choice]) -> int:
        """The place of the best among some choices."""
        ranked = [self.ranks(process, choice) for choice in choices]
        return eliminate(ranked, list(range(len(choices))), self.is_in_turn(process))[0]

    def is_in_turn(self, process: int) -> bool:
        """Whether paths are compared one after the other, which makes MED depend on the order."""
        switches = self.speakers[process].bgp.decision
        return not switches.deterministic_med and not switches.compare_med_between_as

    def ranks(self, process: int, choice: Choice) -> Ranks:
        """A path in every comparison, in the order of the network file's page: lower is better."""
        path, via = choice
        switches = self.speakers[process].bgp.decision
        channel = self.channels[via] if via != LOCALLY else None
        missing = WORST_MED if switches.missing_med_is_worst else 0
        med = missing if path.med is None else path.med
        said = (
            None
            if channel is None
            else (channel.receiving.neighbor.established_at or channel.sending.neighbor.established_at)
        )
        peer = self.speakers[process if channel is None else channel.sender].identifier
        identifier = peer if path.originator is None else path.originator
        steps: dict[str, tuple[int, str]] = {
            "weight": (-path.weight, str(path.weight)),
            "local preference": (-path.local_preference, str(path.local_preference)),
            "locally originated": (0, "here") if channel is None else (1, "elsewhere"),
        }
        if not switches.ignore_as_path_length:
            steps["AS path length"] = len(path.as_path), str(len(path.as_path))
        steps["origin"] = columns.ORIGINS.index(path.origin), path.origin
        steps["MED"] = med, self._med_text(switches, path)
        steps["external over internal"] = (0, "external") if channel and channel.external else (1, "internal")
        metric = 0 if channel is None else self.metric(process, path.next_hop)
        steps["metric to the next hop"] = metric, str(metric)
        if switches.prefer_oldest:
            age = UNKNOWN_AGE if said is None else int(seconds(said))
            is_external = channel is not None and channel.external
            steps["oldest"] = (age, said or "not known") if is_external else (0, "internal")
        steps["router id"] = identifier, str(Address(4, identifier))
        steps["cluster list length"] = len(path.clusters), str(len(path.clusters))
        position = 0 if channel is None else 1 + self.inward[process].index(channel)
        steps["neighbor address"] = position, "" if channel is None else str(channel.receiving.neighbor.address)
        group = None if switches.compare_med_between_as else (path.as_path[0] if path.as_path else 0)
        age_known = -1 if said is None or channel is None else int(seconds(said))
        return Ranks(steps, group, (-age_known, position))

    @staticmethod
    def _med_text(switches: BgpDecision, path: Path) -> str:
        """A MED with the AS among whose paths it counts, where it does not count among all."""
        text = "none" if path.med is None else str(path.med)
        if switches.compare_med_between_as:
            return text
        return f"{text} of AS {path.as_path[0]}" if path.as_path else f"{text} of the own AS"

    def _send_all(self, process: int) -> None:
        for channel in self.outward[process]:
            default = self._default_of(channel)
            if default is not None:
                self.received[channel.index] = self.let_in(channel, default)
                continue
            sent = self.sent(channel)
            if isinstance(sent, Path):
                self.received[channel.index] = self.let_in(channel, sent)
            else:
                self.received.pop(channel.index, None)

    def announced(self, process: int) -> Choice | Refusal:
        """What a speaker has to say of the prefix, or why it says nothing."""
        best = self.best.get(process)
        if best is None:
            return Refusal(f"{self.name(process)} has no path for it")
        if process in self.blocked and best[1] != LOCALLY:
            if process not in self.local:
                return Refusal(f"the table of {self.name(process)} uses another protocol's route, so BGP says nothing")
            best = self.local[process][0], LOCALLY
        if process in self.suppressed:
            return Refusal(f"{self.name(process)} sends only the aggregate", self.suppressed[process])
        return best

    def sent(self, channel: Channel) -> Path | Refusal:
        """What goes out by a channel, or why nothing does (RFC 4271 section 9.2, 4456 section 6)."""
        said = self.announced(channel.sender)
        if isinstance(said, Refusal):
            return said
        path, via = said
        sender, neighbor = self.speakers[channel.sender], channel.sending.neighbor
        name = self.name(channel.sender)
        from_internal = via != LOCALLY and not self.channels[via].external
        if via == channel.reverse:
            return Refusal(f"it is the path that {self.name(channel.receiver)} itself sent to {name}")
        if not channel.external and from_internal:
            is_client = self.channels[via].receiving.neighbor.route_reflector_client
            if not is_client and not neighbor.route_reflector_client:
                why = "neither is a client of its" if sender.is_reflector else f"{name} is no route reflector"
                return Refusal(
                    f"{name} has it from internal neighbor {self.name(self.channels[via].sender)} and does not pass it"
                    f" to another internal one: {why}",
                    neighbor.place,
                )
        if NO_ADVERTISE in path.communities:
            return Refusal(f"it carries the community {NO_ADVERTISE}")
        if channel.external and path.communities & {NO_EXPORT, NO_EXPORT_SUBCONFED}:
            return Refusal(f"it carries the community {NO_EXPORT}")
        own = dict(channel.next_hops).get(self.prefix.family)
        if own is None:
            return Refusal(f"{name} has no IPv{self.prefix.family} address to give as next hop", neighbor.place)
        if channel.external and sender.bgp.require_policies and neighbor.export_policy is None:
            return Refusal(f"{name} requires policies, and this neighbor has no export policy", neighbor.place)
        changed, decision = self._policy(channel.sender, neighbor.export_policy, path, neighbor.address)
        if decision is not None and not decision.accepted:
            policy = self.device(channel.sender).policies[neighbor.export_policy or ""]
            place = decision.by.place if decision.by is not None else policy.place
            return Refusal(f"export {decision.words(policy)}", place)
        sets = decision.set if decision is not None else None
        is_set = sets is not None and sets.next_hop is not None
        if channel.external:
            med_is_set = sets is not None and (sets.med is not None or sets.metric is not None)
            as_path = columns.without_private(changed.as_path) if neighbor.remove_private_as else changed.as_path
            keeps = (
                channel.port >= 0
                and changed.next_hop is not None
                and (
                    self.channels[self.channels[via].reverse].port == channel.port
                    if via != LOCALLY
                    else self._is_on(channel.port, changed.next_hop)
                )
            )
            return Path(
                (sender.bgp.number, *as_path),
                changed.origin,
                changed.med if via == LOCALLY or med_is_set else None,
                LOCAL_PREFERENCE,
                changed.communities,
                changed.next_hop if keeps or is_set else own,
            )
        next_hop = changed.next_hop
        if not is_set and (next_hop is None or (neighbor.next_hop_self and not from_internal)):
            next_hop = own
        originator, clusters = changed.originator, changed.clusters
        if from_internal:
            originator = self.speakers[self.channels[via].sender].identifier if originator is None else originator
            clusters = (sender.cluster, *clusters)
        return replace(
            changed,
            next_hop=next_hop,
            originator=originator,
            clusters=clusters,
            weight=0,
            tag=None,
            preference=None,
        )

    def _is_on(self, port: int, address: Address) -> bool:
        return any(
            own.prefix.contains(address) and own.address != address
            for own in self.topology.ports[port].interface.addresses
        )

    def let_in(self, channel: Channel, sent: Path) -> Receipt:
        """What the receiver makes of a path."""
        receiver, neighbor = self.speakers[channel.receiver], channel.receiving.neighbor
        times = sent.as_path.count(receiver.bgp.number)

        def refused(text: str, place: Place = NOWHERE) -> Receipt:
            return Receipt(channel, sent, None, Refusal(text, place))

        if times > neighbor.allow_own_as:
            return refused(f"its AS path has the own AS {receiver.bgp.number}: a loop", neighbor.place)
        if channel.external:
            sent = replace(sent, local_preference=LOCAL_PREFERENCE)
            if receiver.bgp.require_policies and neighbor.import_policy is None:
                return refused("policies are required, and this neighbor has no import policy", neighbor.place)
            port = self.channels[channel.reverse].port
            if port >= 0 and sent.next_hop is not None and not self._is_on(port, sent.next_hop):
                interface = self.topology.ports[port].name
                return refused(
                    f"its next hop {sent.next_hop} is not on the subnet that {interface} shares with this neighbor,"
                    " which is one hop away (RFC 4271 section 6.3)",
                    neighbor.place,
                )
        elif sent.originator == receiver.identifier:
            return refused("it was reflected back to where it came from: its originator is this router")
        elif receiver.is_reflector and receiver.cluster in sent.clusters:
            return refused("its cluster list has the own cluster: it went round", neighbor.place)
        path = replace(sent, weight=neighbor.weight)
        kept, decision = self._policy(channel.receiver, neighbor.import_policy, path, neighbor.address)
        if decision is None:
            return Receipt(channel, sent, kept)
        policy = self.device(channel.receiver).policies[neighbor.import_policy or ""]
        place = decision.by.place if decision.by is not None else policy.place
        words = f"import {decision.words(policy)}"
        if not decision.accepted:
            return Receipt(channel, sent, None, Refusal(words, place), words, place)
        return Receipt(channel, sent, kept, None, words, place)

    def _policy(self, process: int, name: str | None, path: Path, neighbor: Address) -> tuple[Path, Decision | None]:
        if name is None:
            return path, None
        asked = Asked(
            self.prefix,
            "bgp",
            path.med or 0,
            path.tag,
            () if path.next_hop is None else (path.next_hop,),
            path.seen(neighbor),
        )
        decision = ask(self.device(process).policies[name], asked)
        return changed_by(path, decision), decision

    def candidates(self, process: int, external: int, internal: int) -> Iterator[Candidate]:
        """All that reached a speaker, what it says itself included; preferences by kind."""
        said = self.local.get(process)
        if said is not None:
            path, words, place = said
            is_aggregate = words.startswith("an aggregate")
            yield self._candidate(
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
        for channel in self.inward[process]:
            receipt = self.received.get(channel.index)
            if receipt is None:
                continue
            path = receipt.kept or receipt.sent
            neighbor = channel.receiving.neighbor
            kind = "external" if channel.external else "internal"
            preference = external if channel.external else internal
            resolution = self._resolved(process, path.next_hop)
            candidate = Candidate(
                "bgp",
                "",
                kind,
                preference if path.preference is None else path.preference,
                path.med or 0,
                f"from {neighbor.address} ({self.name(channel.sender)}, AS {self.speakers[channel.sender].bgp.number})",
                resolution.next_hops,
                resolution.action,
                tag=path.tag,
                origin_device=self.device(channel.sender).name,
                place=receipt.policy_place if receipt.policy else neighbor.place,
            )
            candidate.has_own_preference = path.preference is not None
            if receipt.refusal is not None:
                candidate.out, candidate.place = receipt.refusal.text, receipt.refusal.place
            elif resolution.metric >= UNREACHABLE:
                candidate.out = f"its next hop {path.next_hop} does not resolve"
            self._candidate(process, (path, channel.index), candidate)
            if receipt.policy:
                candidate.attributes["policy"] = receipt.policy
                candidate.attributes.update(differences(receipt.sent, path))
            yield candidate

    def _candidate(self, process: int, choice: Choice, candidate: Candidate) -> Candidate:
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
        candidate.path = path.seen(None if via == LOCALLY else self.channels[via].receiving.neighbor.address)
        if not candidate.out:
            ranks = self.ranks(process, choice)
            candidate.ranks = ranks.steps
            candidate.med_group = ranks.group
            candidate.turn = ranks.turn
            if via != LOCALLY:
                candidate.attributes["metric to the next hop"] = ranks.steps["metric to the next hop"][1]
        return candidate

    def unsent(self, process: int) -> Iterator[tuple[Channel, Path, Refusal]]:
        """Paths that neighbours hold and never sent here, each with the reason."""
        for channel in self.inward[process]:
            sender = channel.sender
            best = self.best.get(sender)
            for choice in self.choices(sender):
                if choice[1] == channel.reverse:
                    continue  # it came from here
                if choice == best:
                    if channel.index not in self.received:
                        sent = self.sent(channel)
                        if isinstance(sent, Refusal):
                            yield channel, choice[0], sent
                else:
                    yield channel, choice[0], Refusal(self._better(channel, best))

    def _better(self, channel: Channel, best: Choice | None) -> str:
        """Why a path is not sent that its holder does not use, naming the one that it does use."""
        name = self.name(channel.sender)
        if best is None:
            return f"it is not the best path of {name}"
        path, via = best
        source = "which it says itself" if via == LOCALLY else f"from {self.name(self.channels[via].sender)}"
        text = f"the best path of {name} is that with AS path {' '.join(map(str, path.as_path)) or 'empty'}, {source}"
        if channel.index in self.received:
            return f"{text}, and that one was sent"
        return f"{text}, and comes from here" if via == channel.reverse else text
