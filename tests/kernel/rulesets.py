"""Random rulesets over all constructs that the walk evaluates; a rule that nft refuses is left out."""

import random
import re
from collections.abc import Callable

NETWORKS_4 = ("10.0.1.0/24", "10.0.2.0/24", "10.0.3.0/24", "10.0.0.0/22", "10.0.1.2", "10.0.2.2", "10.0.3.2")
NETWORKS_6 = ("fd01::/64", "fd02::/64", "fd03::/64", "fd00::/14", "fd01::2", "fd02::2")
PORTS = ("22", "80", "443", "53", "8080", "1-100", "20000-60000", "{ 22, 80 }", "{ 53, 100-500 }")
STRUCTURE = ("table ", "chain ", "set ", "map ", "elements ", "}")
LEGS = ("lan", "dmz", "wan", "lo")


class Dice(random.Random):
    """Choices by name."""

    def one(self, *options: str) -> str:
        return self.choice(options)

    def maybe(self, share: float, text: str) -> str:
        return text if self.random() < share else ""


def ruleset(seed: int) -> list[str]:
    """The lines of a ruleset; some rules may be such as nft refuses."""
    dice = Dice(seed)
    lines = []
    for number in range(dice.randint(1, 2)):
        lines += _table(dice, number)
    return lines


def without_refused(lines: list[str], load: Callable[[str], str]) -> list[str]:
    """The lines without those that nft names as wrong."""
    for _ in range(60):
        error = load("\n".join(lines))
        if not error:
            return lines
        # The first line is that of the flush.
        wrong = {int(found) - 2 for found in re.findall(r"(?:stdin|-):(\d+):", error)}
        lines = [line for at, line in enumerate(lines) if at not in wrong or line.startswith(STRUCTURE)]
    raise RuntimeError(f"nft refuses what is left: {error}")


def _table(dice: Dice, number: int) -> list[str]:
    family = dice.choices(["inet", "ip", "ip6"], [6, 2, 1])[0]
    v4, v6 = dice.one(*NETWORKS_4), dice.one(*NETWORKS_6)
    lines = [f"table {family} t{number} {{"]
    if family != "ip6":
        lines += ["set some { type ipv4_addr; flags interval; auto-merge;", f"elements = {{ {v4}, 10.0.3.2 }} ;", "}"]
        lines += [
            "set pairs { type ipv4_addr . inet_service; flags interval;",
            f"elements = {{ 10.0.1.0/24 . 22-90, 10.0.2.2 . {dice.one('53', '80')} }} ;",
            "}",
        ]
        lines += [
            "map marks { type ipv4_addr : mark; flags interval;",
            f"elements = {{ {v4} : {dice.randint(1, 3)} }} ;",
            "}",
        ]
    if family != "ip":
        lines += ["set more { type ipv6_addr; flags interval; auto-merge;", f"elements = {{ {v6} }} ;", "}"]
    lines += [
        "map doors { type inet_service : verdict;",
        f"elements = {{ 22 : {dice.one('accept', 'drop', 'jump side')}, 80 : {dice.one('accept', 'goto side')} }} ;",
        "}",
    ]
    side = [_rule(dice, family, "", False) for _ in range(dice.randint(0, 3))]
    inner = [_rule(dice, family, "", False) for _ in range(dice.randint(0, 2))]
    lines += ["chain inner {", *inner, "}", "chain side {", *side, dice.maybe(0.3, "jump inner"), "}"]
    for at in range(dice.randint(1, 3)):
        hook = dice.choices(["forward", "input", "output", "prerouting", "postrouting"], [8, 3, 3, 3, 2])[0]
        priority = dice.one("-310", "-150", "-10", "0", "10", "50", "150")
        policy = dice.choices(["accept", "drop"], [2, 1])[0]
        if hook in ("prerouting", "postrouting") and dice.random() < 0.8:
            policy = "accept"
        kind = "route" if hook == "output" and dice.random() < 0.4 else "filter"
        lines.append(f"chain base{at} {{ type {kind} hook {hook} priority {priority}; policy {policy};")
        if dice.random() < 0.5:
            lines.append(dice.one("ct state established,related accept", "ct state { established, related } accept"))
        lines += [_rule(dice, family, hook, True) for _ in range(dice.randint(1, 6))]
        lines.append("}")
    if dice.random() < 0.35:
        lines += _translation(dice, family)
    return [line for line in [*lines, "}"] if line]


def _translation(dice: Dice, family: str) -> list[str]:
    lines = []
    v6 = family == "ip6"
    to = "ip6 to" if family == "inet" and v6 else "ip to" if family == "inet" else "to"
    if dice.random() < 0.6:
        lines.append("chain natpre { type nat hook prerouting priority -100; policy accept;")
        target = dice.one("10.0.2.2", "10.0.3.2", "10.0.1.2") if not v6 else "fd02::2"
        match = dice.one("iifname lan", "iifname wan", "tcp dport 80", "tcp dport { 22, 443 }", "ip daddr 10.0.2.2")
        lines.append(
            f"{match} tcp dport {dice.one('80', '443', '22')} dnat {to} {target}:{dice.one('22', '80', '8080')}"
        )
        lines.append(f"{match} dnat {to} {target}")
        lines.append(
            dice.one("tcp dport 443 redirect to :80", "ip daddr 10.0.3.2 redirect", "udp dport 53 redirect to :5000")
        )
        lines.append(f"dnat {to} tcp dport map {{ 443 : 10.0.2.2 }}")
        lines.append("}")
    if dice.random() < 0.7:
        lines.append("chain natpost { type nat hook postrouting priority 100; policy accept;")
        lines.append(
            f"oifname {dice.one('wan', 'dmz', '{ wan, dmz }')} {dice.maybe(0.3, 'ip saddr 10.0.1.0/24')} masquerade"
        )
        lines.append(f"oifname {dice.one('lan', 'dmz')} snat {to} {dice.one('10.0.3.1', '10.0.2.1')}")
        lines.append("}")
    if dice.random() < 0.2:
        lines.append("chain natout { type nat hook output priority -100; policy accept;")
        lines.append(f"tcp dport {dice.one('22', '443')} dnat {to} {dice.one('10.0.2.2', '10.0.3.2')}:80")
        lines.append("}")
    return lines


def _rule(dice: Dice, family: str, hook: str, is_base: bool) -> str:
    matches = [_match(dice, family, hook) for _ in range(dice.choices([0, 1, 2, 3], [1, 5, 4, 1])[0])]
    text = f"{' '.join(matches)} {_ending(dice, family, hook, is_base)}"
    # Of a rule that asks for both families, which never holds, nft lists but a part; of one that rejects by a TCP
    # reset it loses the family.
    is_4, is_6 = re.search(r"\bip |\bicmp |ipv4", text), re.search(r"\bip6 |icmpv6|ipv6", text)
    is_lost = "nfproto" in text and "tcp reset" in text
    return "counter" if (is_4 and is_6) or is_lost else text


def _match(dice: Dice, family: str, hook: str) -> str:
    negated = dice.maybe(0.2, "!= ")
    v4 = f"ip {dice.one('saddr', 'daddr')} {negated}{dice.one(*NETWORKS_4, '{ 10.0.1.2, 10.0.3.0/24 }', '10.0.1.1-10.0.2.9', '@some')}"
    v6 = f"ip6 {dice.one('saddr', 'daddr')} {negated}{dice.one(*NETWORKS_6, '@more')}"
    address = {"ip": v4, "ip6": v6}.get(family) or dice.one(v4, v4, v6)
    leg = dice.one(*LEGS, "{ lan, dmz }", '"l*"', '"w*"')
    options = [
        address,
        address,
        f"{dice.one('tcp', 'udp')} {dice.one('dport', 'dport', 'dport', 'sport')} {negated}{dice.one(*PORTS)}",
        f"{dice.one('tcp', 'udp')} dport {dice.one('< 100', '>= 80', '!= 22', '<= 53')}",
        f"meta l4proto {negated}{dice.one('tcp', 'udp', 'icmp', 'ipv6-icmp', '{ tcp, udp }', '{ icmp, ipv6-icmp }')}",
        f"{dice.one('iifname', 'oifname')} {negated}{leg}",
        f"{dice.one('iif', 'oif')} {negated}{dice.one('lan', 'dmz', 'wan', 'lo')}",
        f"ct state {dice.one('new', 'established', 'established,related', 'invalid', '{ new, established }', '!= new', '!= established', 'new,invalid')}",
        f"ct direction {dice.one('original', 'reply')}",
        f"ct status {dice.one('dnat', 'snat', 'snat,dnat', 'confirmed', 'seen-reply')}",
        f"ct original {'ip6' if family == 'ip6' else 'ip'} {dice.one('saddr', 'daddr')} {'fd01::2' if family == 'ip6' else dice.one('10.0.1.2', '10.0.2.2', '10.0.0.0/23')}",
        f"meta mark {negated}{dice.one('1', '2', '0')}",
        f"meta mark & 0x{dice.one('1', '2', '3')} {dice.one('==', '!=')} {dice.one('0', '1', '2')}",
        f"ct mark {negated}{dice.one('1', '2', '0')}",
        f"meta nfproto {dice.one('ipv4', 'ipv6')}",
        f"fib {dice.one('daddr', 'saddr')} type {dice.one('local', 'unicast', '{ local, broadcast }', '!= local')}",
        f"fib saddr . iif oif {dice.one('exists', 'missing')}",
        f"fib daddr oifname {dice.one('lan', 'dmz', 'wan')}",
        f"tcp flags {dice.one('syn', '& (fin|syn|rst|ack) == syn', '& (syn|ack) == syn|ack', '!= syn', '{ syn, syn|ack }', 'syn,ack', '& (fin|psh) == 0')}",
        f"icmp type {dice.one('echo-request', 'echo-reply', '{ echo-request, echo-reply }', '!= echo-request')}",
        f"icmpv6 type {dice.one('echo-request', 'echo-reply', '{ echo-request, nd-neighbor-solicit }')}",
        f"icmp type echo-request icmp code {dice.one('0', '1')}",
        f"meta length {dice.one('< 20', '> 40', '<= 60')}",
        f"ip6 dscp {negated}{dice.one('0', 'ef')}",
        f"ip version {negated}4",
        f"udp length > {dice.one('4', '7')}",
        f"ip dscp {negated}{dice.one('0', 'ef', 'cs1')}",
        "ip saddr . tcp dport @pairs",
        f"ip saddr . ip daddr {negated}{{ 10.0.1.2 . 10.0.2.2, 10.0.3.2 . 10.0.1.2 }}",
        f"ip protocol {negated}{dice.one('tcp', 'udp', 'icmp')}",
        f"th dport {dice.one('53', '80', '22')}",
        f"ip saddr & 255.255.255.0 == {dice.one('10.0.1.0', '10.0.2.0')}",
    ]
    found = dice.choice(options)
    return f"meta l4proto {{ tcp, udp }} {found}" if found.startswith("th ") else found


def _ending(dice: Dice, family: str, hook: str, is_base: bool) -> str:
    options = [
        *["accept"] * 6,
        *["drop"] * 5,
        "reject",
        "reject with tcp reset",
        "return",
        "continue",
        "counter",
        f"meta mark set {dice.one('1', '2', 'ct mark', 'meta mark | 0x2', 'meta mark ^ 0x1')}",
        f"ct mark set {dice.one('1', '2', 'meta mark')}",
        "ip dscp set cs1",
        "meta mark set ip saddr map @marks",
    ]
    if hook in ("prerouting", "output") and dice.random() < 0.1:
        return "notrack"
    if is_base:
        options += [*["jump side"] * 4, *["goto side"] * 2, "tcp dport vmap @doors"]
        options.append("ct state vmap { established : accept, invalid : drop }")
        options.append(f"tcp dport vmap {{ 22 : {dice.one('accept', 'jump inner')}, 80-443 : drop }}")
        options.append("iifname vmap { lan : jump side, wan : accept }")
        options.append("ip saddr . ip daddr vmap { 10.0.1.2 . 10.0.2.2 : drop, 10.0.2.2 . 10.0.1.2 : accept }")
        options.append("meta l4proto vmap { tcp : goto side, udp : accept }")
    return dice.choice(options)


def routing(seed: int) -> list[str]:
    """Commands for routing rules and tables; half of the seeds have none."""
    dice = Dice(seed * 7919 + 1)
    if dice.random() < 0.5:
        return []
    found = []
    for table in ("100", "101"):
        for _ in range(dice.randint(1, 4)):
            number = dice.randint(1, 3)
            to = dice.one("default", f"10.0.{dice.randint(1, 3)}.0/24", f"10.0.{dice.randint(1, 3)}.2", "10.0.0.0/22")
            way = dice.one(f"via 10.0.{number}.2 dev {LEGS[number - 1]}", f"dev {LEGS[number - 1]}")
            kind = dice.choices(["", "throw", "blackhole", "unreachable"], [7, 1, 1, 1])[0]
            metric = dice.maybe(0.3, f"metric {dice.randint(1, 9)}")
            tos = dice.maybe(0.1, "tos 0x10")
            words = f"{kind} {to} table {table}" if kind else f"{to} {way} table {table} {metric} {tos}"
            found.append(f"ip route append {words}")
            six = dice.one("default", f"fd0{dice.randint(1, 3)}::/64", f"fd0{dice.randint(1, 3)}::2")
            found.append(f"ip -6 route append {six} via fd0{number}::2 dev {LEGS[number - 1]} table {table}")
    for priority in dice.sample(range(50, 400), dice.randint(1, 4)):
        family = dice.one("", "", "-6")
        host = dice.one(*NETWORKS_6[:4]) if family else dice.one(*NETWORKS_4)
        selectors = [
            dice.maybe(0.5, f"{dice.one('from', 'to')} {host}"),
            dice.maybe(0.3, f"iif {dice.one(*LEGS)}"),
            dice.maybe(0.3, f"ipproto {dice.one('tcp', 'udp')} dport {dice.one('22', '80', '20-100')}"),
            dice.maybe(0.3, f"fwmark {dice.one('1', '2', '0x0/0x1', '0x2/0x2')}"),
        ]
        action = dice.choices(
            ["lookup 100", "lookup 101", "lookup main suppress_prefixlength 23", "blackhole", "goto 500", "nop"],
            [6, 4, 1, 1, 1, 1],
        )[0]
        negated = dice.maybe(0.15, "not")
        found.append(f"ip {family} rule add {negated} {' '.join(selectors)} priority {priority} {action}")
    found.append("ip rule add priority 500 nop")
    if dice.random() < 0.1:
        found.append("ip rule del priority 32766")
    return found
