from django.urls import path

from questions.views import (
    ComparisonView,
    ContestView,
    DriftView,
    FindingsView,
    ForestView,
    InstancesView,
    MapView,
    OutlineView,
    PoliciesView,
    PolicyView,
    ServicesView,
    SourceListView,
    SourceTextView,
    StatementsView,
    TableView,
    TippingView,
    UnderstandingView,
    WalksView,
    WalkView,
    WordsView,
)

REVISION = "networks/<uuid:network_id>/revisions/<revision:number>"

urlpatterns = [
    path(f"{REVISION}/map", MapView.as_view(), name="map"),
    path(f"{REVISION}/understanding", UnderstandingView.as_view(), name="understanding"),
    path(f"{REVISION}/walk", WalkView.as_view(), name="walk"),
    path(f"{REVISION}/walks", WalksView.as_view(), name="walks"),
    path(f"{REVISION}/findings", FindingsView.as_view(), name="findings"),
    path(f"{REVISION}/words", WordsView.as_view(), name="words"),
    path(f"{REVISION}/services", ServicesView.as_view(), name="services"),
    path(f"{REVISION}/table", TableView.as_view(), name="table"),
    path(f"{REVISION}/instances", InstancesView.as_view(), name="instances"),
    path(f"{REVISION}/contest", ContestView.as_view(), name="contest"),
    path(f"{REVISION}/tipping", TippingView.as_view(), name="tipping"),
    path(f"{REVISION}/forest", ForestView.as_view(), name="forest"),
    path(f"{REVISION}/policies", PoliciesView.as_view(), name="policies"),
    path(f"{REVISION}/policy", PolicyView.as_view(), name="policy"),
    path(f"{REVISION}/drift", DriftView.as_view(), name="drift"),
    path(f"{REVISION}/comparison", ComparisonView.as_view(), name="comparison"),
    path(f"{REVISION}/outline", OutlineView.as_view(), name="outline"),
    path(f"{REVISION}/statements", StatementsView.as_view(), name="statements"),
    path(f"{REVISION}/sources", SourceListView.as_view(), name="sources"),
    path(f"{REVISION}/source", SourceTextView.as_view(), name="source"),
]
