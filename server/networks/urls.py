from django.urls import path

from networks.map_moves import MapMovesView
from networks.views import (
    DeletedListView,
    DeletedView,
    DownloadView,
    ExampleView,
    LoadCheckView,
    MemberListView,
    MemberView,
    NetworkListView,
    NetworkView,
    RevisionListView,
    RevisionView,
)

NETWORK = "networks/<uuid:network_id>"

urlpatterns = [
    path("load-check", LoadCheckView.as_view(), name="load-check"),
    path("networks", NetworkListView.as_view(), name="networks"),
    path("networks/example", ExampleView.as_view(), name="example"),
    path("deleted-networks", DeletedListView.as_view(), name="deleted-networks"),
    path("deleted-networks/<uuid:network_id>", DeletedView.as_view(), name="deleted-network"),
    path(NETWORK, NetworkView.as_view(), name="network"),
    path(f"{NETWORK}/members", MemberListView.as_view(), name="members"),
    path(f"{NETWORK}/members/<str:username>", MemberView.as_view(), name="member"),
    path(f"{NETWORK}/map-moves", MapMovesView.as_view(), name="map-moves"),
    path(f"{NETWORK}/revisions", RevisionListView.as_view(), name="revisions"),
    path(f"{NETWORK}/revisions/<revision:number>", RevisionView.as_view(), name="revision"),
    path(f"{NETWORK}/revisions/<revision:number>/download", DownloadView.as_view(), name="download"),
]
