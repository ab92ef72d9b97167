"""The web client's page, and the network file's schema for editors to fetch."""

from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.csrf import ensure_csrf_cookie

from routrel.formats.json_schema import network_schema


@ensure_csrf_cookie
def web_client(request: HttpRequest) -> HttpResponse:
    page = settings.WEB_BUILD / "index.html"
    if not page.is_file():
        return HttpResponse("The web client is not built: run ./routrel serve.", status=503, content_type="text/plain")
    return HttpResponse(page.read_bytes(), content_type="text/html; charset=utf-8")


def network_file_schema(request: HttpRequest) -> JsonResponse:
    return JsonResponse(network_schema())
