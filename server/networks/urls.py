from django.urls import path

from networks.views import (
    DownloadView,
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
    path(NETWORK, NetworkView.as_view(), name="network"),
    path(f"{NETWORK}/members", MemberListView.as_view(), name="members"),
    path(f"{NETWORK}/members/<str:username>", MemberView.as_view(), name="member"),
    path(f"{NETWORK}/revisions", RevisionListView.as_view(), name="revisions"),
    path(f"{NETWORK}/revisions/<revision:number>", RevisionView.as_view(), name="revision"),
    path(f"{NETWORK}/revisions/<revision:number>/download", DownloadView.as_view(), name="download"),
]
