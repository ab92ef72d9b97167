"""Answers in the API's schema, made from the types that the core returns."""

from collections.abc import Callable
from typing import Any

import msgspec
from drf_spectacular.utils import OpenApiExample, OpenApiParameter, extend_schema

from questions.examples import WALKS, address_of, kept_answers
from work.answering import QUESTIONS

ANSWERS = kept_answers()
TRIAL = OpenApiParameter("trial", int, description="A trial of the network, by its number: its changes are made first.")
AS_OF = OpenApiParameter(
    "as_of", str, description="A moment, like 2026-11-20T03:12:44Z: what was down and changed then, by the events."
)
COMPONENTS: dict[str, Any] = {}
"""Shapes that others refer to, by name."""


def shape_of(kind: Any) -> dict[str, Any]:
    """The shape of an answer of a type, with what it refers to put among the components."""
    (shape,), components = msgspec.json.schema_components([kind], ref_template="#/components/schemas/{name}")
    for component in components.values():
        component["required"] = list(component["properties"])  # every key is always sent
        for one in component["properties"].values():
            one.pop("default", None)
    COMPONENTS.update(components)
    return shape


SHAPE_OF = {name: shape_of(question.of) for name, question in QUESTIONS.items()}


def answers(
    question: str, *parameters: Any, request: Any = None, beside: tuple[OpenApiParameter, ...] = (TRIAL, AS_OF)
) -> Callable[[Any], Any]:
    """Of a view: the question that it asks, its parameters or body, and the shape of the answer; ``beside`` are those
    of the state that it is asked of."""

    def decorated(view: Any) -> Any:
        view.question = question
        view.keys = tuple(one.name for one in parameters if isinstance(one, OpenApiParameter))
        fields = [name for one in parameters if not isinstance(one, OpenApiParameter) for name in one().fields]
        view.known = (*view.keys, *fields, *(one.name for one in beside))
        shape = {(200, "application/json"): SHAPE_OF[question]}
        shown = f"{view.__doc__}\n\nFor example: `{address_of(question)}`"
        given = [OpenApiExample("asked", WALKS, request_only=True)] if request is not None else []
        if question in ANSWERS:
            given.append(OpenApiExample("answered", ANSWERS[question], response_only=True))
        return extend_schema(
            parameters=[*parameters, *beside], request=request, responses=shape, description=shown, examples=given
        )(view)

    return decorated


def add_components(result: dict[str, Any], generator: Any, request: Any, public: bool) -> dict[str, Any]:
    """The shapes that answers refer to, beside those of the API's own."""
    schemas = result["components"]["schemas"]
    taken = schemas.keys() & COMPONENTS.keys()
    assert not taken, f"two shapes of one name: {taken}"
    result["components"]["schemas"] = dict(sorted({**schemas, **COMPONENTS}.items()))
    return result
