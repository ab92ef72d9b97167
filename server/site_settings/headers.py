"""Response headers that every page carries."""

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse

POLICY = (
    "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; object-src 'none';"
    " base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)


class ContentSecurityPolicy:
    """Only our own scripts run: text of a network never can."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]):
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.get_response(request)
        response.setdefault("Content-Security-Policy", POLICY)
        return response
