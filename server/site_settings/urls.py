"""All addresses: the API under /api/, everything else is the web client's one page."""

from django.urls import include, path, re_path, register_converter
from drf_spectacular.views import SpectacularAPIView

from networks.access import RevisionNumber
from site_settings.health import HealthView
from site_settings.page import network_file_schema, web_client

handler404 = "site_settings.failures.not_found"
handler500 = "site_settings.failures.server_error"

register_converter(RevisionNumber, "revision")

urlpatterns = [
    path("api/", include("accounts.urls")),
    path("api/", include("networks.urls")),
    path("api/", include("asked.urls")),
    path("api/", include("trials.urls")),
    path("api/", include("questions.urls")),
    path("api/", include("jobs.urls")),
    path("api/", include("uploading.urls")),
    path("api/", include("collecting.urls")),
    path("api/", include("history.urls")),
    path("api/health", HealthView.as_view(), name="health"),
    path("api/schema", SpectacularAPIView.as_view(permission_classes=[]), name="schema"),
    path("api/network-file.schema.json", network_file_schema, name="network-file-schema"),
    re_path(r"^(?!api/|static/).*$", web_client, name="web-client"),
]
