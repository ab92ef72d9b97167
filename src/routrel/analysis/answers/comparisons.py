"""What differs between two states of a network as answers."""

from typing import Literal

from msgspec import Struct

from routrel.analysis.answers.routes import TableRow
from routrel.analysis.answers.walks import AskedFlow


class ModelChange(Struct, frozen=True):
    """What came, went or changed of the model itself; ``detail`` names what changed."""

    what: Literal["came", "gone", "changed"]
    kind: Literal["device", "interface", "link", "site", "endpoint", "service", "problem"]
    name: str
    detail: str


class RouteChange(Struct, frozen=True):
    """A prefix at which a table differs; None where there is no route. ``reason`` is why, '' where not looked into."""

    device: str
    vrf: str
    prefix: str
    before: TableRow | None
    after: TableRow | None
    reason: str = ""


class FlowChange(Struct, frozen=True):
    """A flow before and after: verdicts both ways, or why it cannot be asked; ``changed`` says whether they differ."""

    flow: AskedFlow
    before: str
    after: str
    changed: bool


class Moved(Struct, frozen=True):
    """Routes and flows that differ; ``routes`` lists the first of the ``routes_changed``."""

    routes_changed: int
    routes: list[RouteChange]
    flows: list[FlowChange]


class Comparison(Struct, frozen=True):
    """``routes`` lists the first of the ``routes_changed`` routes that differ."""

    model: list[ModelChange]
    routes_changed: int
    routes: list[RouteChange]
    flows: list[FlowChange]

    @property
    def is_same(self) -> bool:
        return not (self.model or self.routes_changed or any(flow.changed for flow in self.flows))
