from django.urls import path

from history.views import (
    BetweenHeldView,
    BetweenView,
    EventFilesView,
    EventFileView,
    HappenedView,
    MeasuredView,
    RouteOverTimeView,
    StateView,
    StripView,
)

NETWORK = "networks/<uuid:network_id>"
REVISION = f"{NETWORK}/revisions/<revision:number>"

urlpatterns = [
    path(f"{NETWORK}/events", EventFilesView.as_view(), name="event-files"),
    path(f"{NETWORK}/events/<int:file_id>", EventFileView.as_view(), name="event-file"),
    path(f"{REVISION}/strip", StripView.as_view(), name="strip"),
    path(f"{REVISION}/route-over-time", RouteOverTimeView.as_view(), name="route-over-time"),
    path(f"{REVISION}/happened", HappenedView.as_view(), name="happened"),
    path(f"{REVISION}/between", BetweenView.as_view(), name="between"),
    path(f"{REVISION}/between-held", BetweenHeldView.as_view(), name="between-held"),
    path(f"{REVISION}/measured", MeasuredView.as_view(), name="measured"),
    path(f"{REVISION}/state", StateView.as_view(), name="state"),
]
