"""What no reader looked at: counted once per kind, unless it decides nothing of where packets go."""

from collections import Counter
from dataclasses import dataclass

from routrel.formats.models.draft import DeviceDraft
from routrel.formats.models.statements import WRAPPERS, Statement
from routrel.model.devices import StatementCount

PASSED_OVER = frozenset(
    """
    description alias contact location statistics counters last-change last-updated last-clear if-index
    ifindex link-up-down-trap-enable link-up-down-trap-enabled higher-layer-if lower-layer-if origin
    discontinuity-time loopback-mode hold-time hello-interval dead-interval retransmit-interval transmit-delay
    hello-multiplier hello-timer hello-padding lsp-lifetime lsp-refresh lsp-mtu lsp-interval
    lsp-pacing-interval csnp-interval spf-interval lsa-generation ietf-spf-delay initial-delay short-delay
    long-delay hold-down time-to-learn timers timer-type throttle spf-log lsa-log lsp-log spf-timer
    lsp-log-buffer graceful-restart graceful-restart-enabled nonstop-routing bfd bfd-enabled enable-bfd
    dampening logging log-action log-changes dup-addr-detect-transmits autoconf ipv6-router-advertisements
    router-advertisement router-advertisements dhcp-client dhcp dup-addr-detect tcp-mss tcp-mss-enabled
    mtu-discovery keepalive-interval connect-retry connect-retry-interval minimum-advertisement-interval
    route-refresh logging-options error-handling revision content-schema timestamp datastore contact-info
    module last-checked lsdb link-state-database system-level-counters circuit-counters packet-counters rib
    fdb log-adjacency-changes log-neighbor-state-changes authentication-check fast-flooding iid-tlv poi-tlv
    maximum-area-addresses addr-type counter-capability matched-packets matched-octets
    multi-area-adjacency-primary lsp-mtu-size te-rid spf neighbors neighbor-state database databases local-rib
    adjacencies segments hostnames spf-control-log instances-state interfaces-state routing-state fast-reroute
    ti-lfa node-tag node-tags admin-groups admin-group srlg te mtu-ignore send-community peer-type
    split-horizon send-community-type treat-as-withdraw auth-password authentication-key md5-key
    negotiated-speed negotiated-duplex-mode duplex-mode auto-negotiate auto-negotiation hw-mac-address
    port-status forwarding-viable management cpu tpid rib-summary num-routes num-of-routes route-count
    next-full-update next-triggered-update valid-address database-control lls wait-timer dr-router-id
    dr-ip-addr bdr-router-id bdr-ip-addr lsp-retransmit-interval mesh-group-enabled event-counters
    system-counters protected-routes unprotected-routes protection-statistics
    """.split()  # noqa: SIM905
)
"""Local names of statements that decide nothing of where packets go, or that say again what tables say."""

SWITCHES = frozenset(
    """
    advertise-inactive-routes enable-aigp ignore-next-hop-igp-metric allow-multiple-as replace-peer-as
    disable-peer-as-filter hide-transit-only-networks hide-network passive-mode route-flap-damping
    traffic-engineering-enabled set-bit set-bit-on-boot advertise-high-metric ignore-bit suppress-bit receive send
    all send-max-best igp-sync demand-circuit prevent-teardown node-flag
    """.split()  # noqa: SIM905
)
"""Local names of leaves that do something only where they are true."""

IGNORED_MODULES = (
    "ietf-yang-library",
    "ietf-netconf-acm",
    "ietf-hardware",
    "ietf-keystore",
    "ietf-datastores",
    "ietf-system",
    "openconfig-system",
    "openconfig-lldp",
    "ieee802-dot1ab-lldp",
)


PRESENT = ("always",)
"""Containers that say something by being there (RFC 9129: a stub router)."""


@dataclass
class _Kind:
    count: int
    first: Statement
    affects: str


def statement_count(top: Statement) -> StatementCount:
    """How many statements say something, how many of them were used, how many decide nothing."""
    counted: Counter[str] = Counter()
    stack = [(top, False)]
    while stack:
        here, is_idle = stack.pop()
        is_idle = is_idle or _decides_nothing(here)
        if here.value is not None:
            counted["unread" if here.is_left_out else "used" if here.is_read else "idle" if is_idle else "unread"] += 1
        stack += ((child, is_idle or _is_state(child)) for child in here.children)
    return StatementCount(counted.total(), counted["used"], counted["idle"])


def note_unread(top: Statement, draft: DeviceDraft) -> None:
    """A gap of the device for each kind of statement that no reader looked at."""
    kinds: dict[str, _Kind] = {}
    stack = [(child, "", "") for child in reversed(top.children)]
    while stack:
        here, path, interface = stack.pop()
        if here.module.startswith("@") or _decides_nothing(here):
            continue
        named = here.name if here.is_standard else f"{here.module}:{here.name}"
        own = f"{path}/{named}"
        if not here.is_read:
            said = _deciding(here)
            if not said:
                continue
            kind = kinds.setdefault(own, _Kind(0, here, interface))
            kind.count += said
            if kind.affects != interface:
                kind.affects = ""
            continue
        if own == "/interfaces/interface":
            interface = here.text("name") or ""
        stack += ((child, own, interface) for child in reversed(here.children) if not _is_state(child))
    for own, kind in kinds.items():
        count = "" if kind.count < 2 else f" ({kind.count:,} statements)"
        draft.gap(f"{own}{count} is not represented", kind.first, kind.affects)


def _deciding(top: Statement) -> int:
    """How many statements of one that nobody read may decide something."""
    count = 0
    stack = [top]
    while stack:
        here = stack.pop()
        if not _decides_nothing(here):
            count += not here.children
            stack += here.children
    return count


def _decides_nothing(here: Statement) -> bool:
    if here.module in IGNORED_MODULES:
        return True
    if here.is_read:
        return False
    if here.value == "" and here.module.startswith("openconfig"):
        return True  # a container without anything, as XML has it: a leaf there always says something
    if here.value is not None:
        return here.name in PASSED_OVER or (here.value == "false" and here.name in SWITCHES)
    if not here.children:
        return here.is_standard and here.name not in PRESENT
    return here.name in PASSED_OVER or _is_off(here)


def _is_off(feature: Statement) -> bool:
    """Whether a container that nobody read says that it is not enabled; the rest of it acts no more."""
    parts = [feature, *(one for one in feature.children if one.name in WRAPPERS)]
    said = {one.value for part in parts for one in part.children if one.name == "enabled" and one.is_standard}
    return said == {"false"}


def _is_state(statement: Statement) -> bool:
    """OpenConfig's ``state``: what configuration says again, and counters; readers take from it what they know."""
    return statement.name == "state" and statement.value is None and statement.is_standard
