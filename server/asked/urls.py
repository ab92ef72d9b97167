from django.urls import path

from asked.views import AskedListView, AskedView

ASKED = "networks/<uuid:network_id>/asked"

urlpatterns = [
    path(ASKED, AskedListView.as_view(), name="asked"),
    path(f"{ASKED}/<int:asked_id>", AskedView.as_view(), name="asked-flow"),
]
