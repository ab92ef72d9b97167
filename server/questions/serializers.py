"""Shapes of the answers; the core makes them, these say what they are made of."""

from typing import Any

from rest_framework import serializers

VERDICTS = ("arrives", "blocked", "unrouted", "discarded", "unresolved", "loops", "leaves", "mixed")
CHECK_KINDS = ("acl_in", "filter", "translation", "delivery", "steering", "route", "back", "acl_out", "next_hop")


class PlaceSerializer(serializers.Serializer[Any]):
    file = serializers.CharField()
    line = serializers.IntegerField()
    column = serializers.IntegerField()


class NextHopSerializer(serializers.Serializer[Any]):
    address = serializers.CharField(allow_null=True)
    interface = serializers.CharField()
    device = serializers.CharField(allow_null=True)


class RouteSerializer(serializers.Serializer[Any]):
    prefix = serializers.CharField()
    protocol = serializers.CharField()
    origin = serializers.CharField()
    preference = serializers.IntegerField(allow_null=True)
    metric = serializers.IntegerField(allow_null=True)
    action = serializers.CharField()
    given_next_hops = serializers.ListField(child=serializers.CharField())
    next_hops = NextHopSerializer(many=True)


class CheckSerializer(serializers.Serializer[Any]):
    kind = serializers.ChoiceField(choices=CHECK_KINDS)
    state = serializers.ChoiceField(choices=("pass", "fail", "note"))
    message = serializers.CharField()
    place = PlaceSerializer(allow_null=True)
    acl = serializers.CharField(required=False)
    entry = serializers.IntegerField(required=False, allow_null=True)
    written = serializers.CharField(required=False)
    route = RouteSerializer(required=False)


class BranchSerializer(serializers.Serializer[Any]):
    interface = serializers.CharField()
    address = serializers.CharField()
    via_next_hop = serializers.BooleanField()
    target = serializers.IntegerField(allow_null=True)
    target_interface = serializers.CharField(allow_null=True)
    verdict = serializers.ChoiceField(choices=VERDICTS, allow_null=True)
    stage = serializers.CharField()
    mtu = serializers.IntegerField(allow_null=True)
    links = serializers.ListField(child=serializers.IntegerField())
    checks = CheckSerializer(many=True)


class StopSerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    vrf = serializers.CharField()
    kind = serializers.CharField()
    site = serializers.CharField(allow_null=True)
    ingress = serializers.CharField(allow_null=True)
    header = serializers.CharField()
    translated = serializers.CharField(allow_null=True)
    source = serializers.CharField()  # type: ignore[assignment]
    verdict = serializers.ChoiceField(choices=VERDICTS, allow_null=True)
    stage = serializers.CharField()
    checks = CheckSerializer(many=True)
    branches = BranchSerializer(many=True)
    by_default = serializers.BooleanField()
    notes = serializers.ListField(child=serializers.CharField())


class NearMissSerializer(serializers.Serializer[Any]):
    entry = serializers.IntegerField()
    field = serializers.CharField()
    has = serializers.CharField()
    needs = serializers.CharField()
    place = PlaceSerializer(allow_null=True)


class RemedySerializer(serializers.Serializer[Any]):
    message = serializers.CharField()
    text = serializers.CharField()
    place = PlaceSerializer(allow_null=True)


class TrailEndSerializer(serializers.Serializer[Any]):
    message = serializers.CharField()
    place = PlaceSerializer(allow_null=True)
    other_places = PlaceSerializer(many=True)


class CauseSerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    interface = serializers.CharField(allow_null=True)
    stage = serializers.CharField()
    verdict = serializers.ChoiceField(choices=VERDICTS)
    acl = serializers.CharField(allow_null=True)
    entry = serializers.IntegerField(allow_null=True)
    chain = serializers.CharField(allow_null=True)
    rule = serializers.IntegerField(allow_null=True)
    unsure = serializers.BooleanField()
    message = serializers.CharField()
    place = PlaceSerializer(allow_null=True)
    stop = serializers.IntegerField()
    branch = serializers.IntegerField()
    near_misses = NearMissSerializer(many=True)
    remedy = RemedySerializer(allow_null=True)
    notes = serializers.ListField(child=serializers.CharField())
    trail = TrailEndSerializer(many=True)


class NotRepresentedSerializer(serializers.Serializer[Any]):
    """What the model leaves out of a device that is passed."""

    device = serializers.CharField()
    message = serializers.CharField()
    place = PlaceSerializer(allow_null=True)


class ShrinkSerializer(serializers.Serializer[Any]):
    stop = serializers.IntegerField()
    branch = serializers.IntegerField()
    device = serializers.CharField()
    interface = serializers.CharField()


class PacketSizeSerializer(serializers.Serializer[Any]):
    largest_packet = serializers.IntegerField()
    shrinks_at = ShrinkSerializer(many=True)


class StrandSerializer(serializers.Serializer[Any]):
    verdict = serializers.ChoiceField(choices=VERDICTS)
    path_count = serializers.IntegerField()
    paths = serializers.ListField(child=serializers.ListField(child=serializers.CharField()))
    causes = CauseSerializer(many=True)
    doubts = serializers.ListField(child=serializers.CharField())
    not_represented = NotRepresentedSerializer(many=True)
    starts = serializers.ListField(child=serializers.IntegerField())
    stops = StopSerializer(many=True)
    mtu = PacketSizeSerializer(allow_null=True)


class EndSerializer(serializers.Serializer[Any]):
    word = serializers.CharField()
    device = serializers.CharField(allow_null=True)
    address = serializers.CharField(allow_null=True)


class DeciderSerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    acl = serializers.CharField()
    entry = serializers.IntegerField(allow_null=True)
    accepted = serializers.BooleanField()
    place = PlaceSerializer(allow_null=True)
    is_rule = serializers.BooleanField()


class PortsPartSerializer(serializers.Serializer[Any]):
    ports = serializers.ListField(child=serializers.CharField())
    verdict = serializers.ChoiceField(choices=VERDICTS)
    return_verdict = serializers.ChoiceField(choices=VERDICTS, allow_null=True)
    good = serializers.BooleanField()
    causes = CauseSerializer(many=True)
    decided_by = DeciderSerializer(many=True)


class WalkSerializer(serializers.Serializer[Any]):
    to = EndSerializer()
    service = serializers.CharField()
    forward = StrandSerializer()
    return_note = serializers.CharField()
    forward_note = serializers.CharField()
    parts = PortsPartSerializer(many=True)
    unexamined_ports = serializers.CharField(allow_null=True)

    def get_fields(self) -> dict[str, Any]:
        # "from" and "return" are words of Python.
        return {**super().get_fields(), "from": EndSerializer(), "return": StrandSerializer(allow_null=True)}


class FlowSerializer(serializers.Serializer[Any]):
    """A question, as query parameters."""

    to = serializers.CharField(max_length=200)
    service = serializers.CharField(max_length=100, default="icmp")
    source_port = serializers.IntegerField(required=False, allow_null=True, min_value=0, max_value=65535)
    enter = serializers.CharField(max_length=200, required=False, allow_blank=True)
    source = serializers.CharField(max_length=60, required=False, allow_blank=True)  # type: ignore[assignment]
    vrf = serializers.CharField(max_length=200, required=False, allow_blank=True)

    def get_fields(self) -> dict[str, Any]:
        return {"from": serializers.CharField(max_length=200), **super().get_fields()}


class FindingSerializer(serializers.Serializer[Any]):
    code = serializers.CharField()
    severity = serializers.ChoiceField(choices=("error", "warning", "note"))
    message = serializers.CharField()
    device = serializers.CharField(allow_null=True)
    interface = serializers.CharField(allow_null=True)
    places = PlaceSerializer(many=True)


class SiteSerializer(serializers.Serializer[Any]):
    name = serializers.CharField()
    x = serializers.FloatField(allow_null=True)
    y = serializers.FloatField(allow_null=True)

    def get_fields(self) -> dict[str, Any]:
        return {**super().get_fields(), "label": serializers.CharField()}


class DeviceSerializer(serializers.Serializer[Any]):
    name = serializers.CharField()
    kind = serializers.CharField()
    site = serializers.CharField(allow_null=True)


class CableEndSerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    interface = serializers.CharField()


class CableSerializer(serializers.Serializer[Any]):
    link = serializers.IntegerField(allow_null=True)
    name = serializers.CharField()
    up = serializers.BooleanField()
    ends = CableEndSerializer(many=True)


class MapSerializer(serializers.Serializer[Any]):
    name = serializers.CharField()
    taken_at = serializers.CharField(allow_null=True)
    sites = SiteSerializer(many=True)
    devices = DeviceSerializer(many=True)
    cables = CableSerializer(many=True)


class WordSerializer(serializers.Serializer[Any]):
    word = serializers.CharField()
    kind = serializers.CharField()
    detail = serializers.CharField()


class TableRowSerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    vrf = serializers.CharField()
    prefix = serializers.CharField()
    protocol = serializers.CharField()
    kind = serializers.CharField()
    tag = serializers.IntegerField(allow_null=True)
    preference = serializers.IntegerField(allow_null=True)
    metric = serializers.IntegerField(allow_null=True)
    action = serializers.CharField()
    next_hops = NextHopSerializer(many=True)


class LegSerializer(serializers.Serializer[Any]):
    device = serializers.CharField(allow_null=True)
    interface = serializers.CharField(allow_null=True)
    cost = serializers.IntegerField()
    what = serializers.CharField()


class WaySerializer(serializers.Serializer[Any]):
    total = serializers.IntegerField()
    legs = LegSerializer(many=True)


class AttributeSerializer(serializers.Serializer[Any]):
    name = serializers.CharField()
    value = serializers.CharField()


class CandidateSerializer(serializers.Serializer[Any]):
    protocol = serializers.CharField()
    process = serializers.CharField(allow_null=True)
    kind = serializers.CharField()
    preference = serializers.IntegerField(allow_null=True)
    metric = serializers.IntegerField(allow_null=True)
    tag = serializers.IntegerField(allow_null=True)
    action = serializers.CharField()
    origin = serializers.CharField()
    origin_device = serializers.CharField(allow_null=True)
    place = PlaceSerializer(allow_null=True)
    attributes = AttributeSerializer(many=True)
    next_hops = NextHopSerializer(many=True)
    ways = WaySerializer(many=True)
    detour = serializers.BooleanField()
    state = serializers.ChoiceField(choices=("winner", "lost", "out"))
    out = serializers.CharField(allow_null=True)
    lost_in = serializers.IntegerField(allow_null=True)
    margin = serializers.CharField(allow_null=True)


class RoundValueSerializer(serializers.Serializer[Any]):
    candidate = serializers.IntegerField()
    value = serializers.CharField()


class RoundSerializer(serializers.Serializer[Any]):
    name = serializers.CharField()
    scope = serializers.CharField()
    rule = serializers.CharField()
    chosen = serializers.BooleanField()
    values = RoundValueSerializer(many=True)
    lost = serializers.ListField(child=serializers.IntegerField())


class OutcomeSerializer(serializers.Serializer[Any]):
    protocol = serializers.CharField(allow_null=True)
    kind = serializers.CharField()
    action = serializers.CharField(allow_null=True)
    next_hops = NextHopSerializer(many=True)


class TippingPointSerializer(serializers.Serializer[Any]):
    what = serializers.CharField()
    device = serializers.CharField()
    now = serializers.IntegerField()
    value = serializers.IntegerField()
    direction = serializers.ChoiceField(choices=("above", "below"))
    becomes = OutcomeSerializer()
    beyond = OutcomeSerializer(allow_null=True)
    place = PlaceSerializer(allow_null=True)
    message = serializers.CharField()


class StepSerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    message = serializers.CharField()
    stopped = serializers.BooleanField()
    place = PlaceSerializer(allow_null=True)
    other_places = PlaceSerializer(many=True)


class WinnerSerializer(serializers.Serializer[Any]):
    candidates = serializers.ListField(child=serializers.IntegerField())
    protocol = serializers.CharField()
    kind = serializers.CharField()
    preference = serializers.IntegerField(allow_null=True)
    metric = serializers.IntegerField(allow_null=True)
    action = serializers.CharField()
    next_hops = NextHopSerializer(many=True)


class UnsentSerializer(serializers.Serializer[Any]):
    neighbor = serializers.CharField()
    device = serializers.CharField()
    as_path = serializers.CharField()
    reason = serializers.CharField()
    place = PlaceSerializer(allow_null=True)


class ContestSerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    vrf = serializers.CharField()
    asked = serializers.CharField()
    prefix = serializers.CharField(allow_null=True)
    note = serializers.CharField()
    winner = WinnerSerializer(allow_null=True)
    candidates = CandidateSerializer(many=True)
    rounds = RoundSerializer(many=True)
    notes = serializers.ListField(child=serializers.CharField())
    tipping = TippingPointSerializer(many=True)
    trails = serializers.ListField(child=StepSerializer(many=True))
    unsent = UnsentSerializer(many=True)
    covered_by = serializers.CharField(allow_null=True)


class ForestStepSerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    interface = serializers.CharField()
    links = serializers.ListField(child=serializers.IntegerField())


class ForestRowSerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    vrf = serializers.CharField()
    route = TableRowSerializer(allow_null=True)
    steps = ForestStepSerializer(many=True)
    by_default = serializers.BooleanField()


class ExitSerializer(serializers.Serializer[Any]):
    how = serializers.ChoiceField(choices=("delivered", "discarded", "unrouted", "unresolved", "leaves", "loops"))
    device = serializers.CharField()
    interface = serializers.CharField(allow_null=True)


class ForestGroupSerializer(serializers.Serializer[Any]):
    by_default = serializers.BooleanField()
    exits = ExitSerializer(many=True)
    rows = serializers.ListField(child=serializers.IntegerField())

    def get_fields(self) -> dict[str, Any]:
        return {**super().get_fields(), "label": serializers.CharField()}


class BorderSerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    interface = serializers.CharField()
    onward = serializers.CharField()
    devices = serializers.IntegerField()

    def get_fields(self) -> dict[str, Any]:
        return {**super().get_fields(), "as": serializers.IntegerField()}


class SiteExitsSerializer(serializers.Serializer[Any]):
    site = serializers.CharField()
    borders = BorderSerializer(many=True)
    ends = serializers.ListField(child=serializers.CharField())

    def get_fields(self) -> dict[str, Any]:
        return {**super().get_fields(), "label": serializers.CharField()}


class ForestSerializer(serializers.Serializer[Any]):
    asked = serializers.CharField()
    sites = SiteExitsSerializer(many=True)
    rows = ForestRowSerializer(many=True)
    groups = ForestGroupSerializer(many=True)


class DifferenceSerializer(serializers.Serializer[Any]):
    prefix = serializers.CharField()
    what = serializers.ChoiceField(choices=("missing", "extra", "changed"))
    computed = serializers.CharField()
    observed = serializers.CharField()
    place = PlaceSerializer(allow_null=True)


class DriftSerializer(serializers.Serializer[Any]):
    compared = serializers.BooleanField()
    differences = DifferenceSerializer(many=True)


class InstanceSerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    vrf = serializers.CharField()


class PolicySerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    policy = serializers.CharField()
    place = PlaceSerializer(allow_null=True)


class PolicyStatementSerializer(serializers.Serializer[Any]):
    number = serializers.IntegerField()
    name = serializers.CharField()
    description = serializers.CharField()
    result = serializers.ChoiceField(choices=("accept", "reject", "continue"))
    place = PlaceSerializer(allow_null=True)
    matched = serializers.IntegerField()


class PolicyChangeSerializer(serializers.Serializer[Any]):
    name = serializers.CharField()
    before = serializers.CharField(allow_null=True)
    after = serializers.CharField()


class PolicyRouteSerializer(serializers.Serializer[Any]):
    prefix = serializers.CharField()
    protocol = serializers.CharField()
    as_path = serializers.CharField(allow_null=True)
    accepted = serializers.BooleanField()
    statement = serializers.IntegerField(allow_null=True)
    changes = PolicyChangeSerializer(many=True)


class StatementCountSerializer(serializers.Serializer[Any]):
    number = serializers.IntegerField()
    count = serializers.IntegerField()


class PolicyUseSerializer(serializers.Serializer[Any]):
    what = serializers.CharField()
    place = PlaceSerializer(allow_null=True)
    total = serializers.IntegerField()
    accepted = serializers.IntegerField()
    changed = serializers.IntegerField()
    closing = serializers.IntegerField()
    statements = StatementCountSerializer(many=True)
    routes = PolicyRouteSerializer(many=True)


class PolicyReportSerializer(serializers.Serializer[Any]):
    device = serializers.CharField()
    policy = serializers.CharField()
    place = PlaceSerializer(allow_null=True)
    statements = PolicyStatementSerializer(many=True)
    uses = PolicyUseSerializer(many=True)


class SourceFileSerializer(serializers.Serializer[Any]):
    file = serializers.CharField()
    size = serializers.IntegerField()


class SourceTextSerializer(serializers.Serializer[Any]):
    file = serializers.CharField()
    text = serializers.CharField()
