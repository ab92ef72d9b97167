from django.urls import path

from collecting.views import CollectingView

urlpatterns = [path("networks/<uuid:network_id>/collecting", CollectingView.as_view(), name="collecting")]
