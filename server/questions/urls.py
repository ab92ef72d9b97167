from django.urls import path

from questions.views import (
    FindingsView,
    MapView,
    ServicesView,
    SourceListView,
    SourceTextView,
    TableView,
    WalkView,
    WordsView,
)

REVISION = "networks/<uuid:network_id>/revisions/<int:number>"

urlpatterns = [
    path(f"{REVISION}/map", MapView.as_view(), name="map"),
    path(f"{REVISION}/walk", WalkView.as_view(), name="walk"),
    path(f"{REVISION}/findings", FindingsView.as_view(), name="findings"),
    path(f"{REVISION}/words", WordsView.as_view(), name="words"),
    path(f"{REVISION}/services", ServicesView.as_view(), name="services"),
    path(f"{REVISION}/table", TableView.as_view(), name="table"),
    path(f"{REVISION}/sources", SourceListView.as_view(), name="sources"),
    path(f"{REVISION}/source", SourceTextView.as_view(), name="source"),
]
